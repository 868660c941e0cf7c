import { Button, Select } from 'antd'
import { useRef, useState } from 'react'
import { UNITS, type Problem } from '@oak-gauge/contract'
import { useDismissStepMutation, useRerunStepMutation } from '../../api.ts'
import { useOpenJob } from '../../job/useJob.ts'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { dismissUpload, upload, useUploads } from '../capture/upload.ts'
import { t } from '../../words/t.ts'

/** Markers that were measured elsewhere. */
export function BringList({ setup }: { setup: string | undefined }) {
  const { state } = useOpenJob()
  const file = useRef<HTMLInputElement>(null)
  return (
    <>
      <Button size="small" onClick={() => file.current?.click()}>
        {t('Bring in a list')}
      </Button>
      <input
        ref={file}
        type="file"
        hidden
        aria-label={t('List of markers')}
        accept=".csv,.txt,.asc,.xyz,.pts"
        onChange={(e) => {
          if (e.target.files?.length) upload(state.job.id, [...e.target.files], { role: 'marker-map', ...(setup ? { setup } : {}) })
          e.target.value = ''
        }}
      />
    </>
  )
}

/** Lists that did not get through, could not be read, or did not become a map. */
export function ListTroubles() {
  const { state } = useOpenJob()
  const uploads = useUploads(state.job.id)
  const refused = state.steps.filter((s) => (s.operation === 'import-markers' || s.operation === 'map-markers') && s.state === 'failed')
  return (
    <>
      {uploads
        .filter((u) => u.problem)
        .map((u) => (
          <div key={u.key}>
            {u.problem && <ProblemBox problem={u.problem} />}
            <Button size="small" onClick={() => dismissUpload(u.key)}>
              {t('Close')}
            </Button>
          </div>
        ))}
      {refused.map((s) => s.problem && <Refused key={s.id} step={s.id} operation={s.operation} problem={s.problem} />)}
    </>
  )
}

/** A list that could not be read, with the unit to say when that is what is missing. */
function Refused({ step, operation, problem }: { step: string; operation: string; problem: Problem }) {
  const { state } = useOpenJob()
  const [rerun] = useRerunStepMutation()
  const [dismiss] = useDismissStepMutation()
  const [unit, setUnit] = useState<string>('in')
  return (
    <ProblemBox problem={problem}>
      <div className="abreast">
        {operation === 'import-markers' && problem.code === 'unit-unknown' && (
          <>
            <Select
              size="small"
              aria-label={t('Unit of the list')}
              value={unit}
              onChange={setUnit}
              options={UNITS.map((u) => ({ value: u, label: u }))}
              className="control tiny"
            />
            <Button size="small" onClick={() => void rerun({ id: state.job.id, step, params: { unit } })}>
              {t('Read it in {{unit}}', { unit })}
            </Button>
          </>
        )}
        <Button size="small" onClick={() => void dismiss({ id: state.job.id, step })}>
          {t('Close')}
        </Button>
      </div>
    </ProblemBox>
  )
}
