import { Button, Select } from 'antd'
import { useAddSetupMutation } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { t } from '../../words/t.ts'

/** The setup a pass belongs to, and a new one. value: null: the newest */
export function SetupField({ id, label, value, onChange }: { id: string; label: string; value: string | null; onChange(setup: string | null): void }) {
  const { state } = useOpenJob()
  const [addSetup] = useAddSetupMutation()
  return (
    <div className="field">
      <label htmlFor={id}>{label}</label>
      <span className="abreast">
        <Select
          id={id}
          className="control narrow"
          value={value ?? state.setups.at(-1)?.id ?? null}
          onChange={onChange}
          options={state.setups.map((s) => ({ value: s.id, label: s.name }))}
        />
        <Button
          className="beside"
          title={t('Another setup: the part was turned or moved in between')}
          onClick={() =>
            void addSetup({ id: state.job.id, name: t('Setup {{setups}}', { setups: state.setups.length + 1 }) }).then(({ data }) =>
              onChange(data?.setups.at(-1)?.id ?? null),
            )
          }
        >
          {t('New')}
        </Button>
      </span>
    </div>
  )
}
