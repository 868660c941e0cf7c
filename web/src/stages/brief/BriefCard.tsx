import { Button, Input, Select } from 'antd'
import { useState } from 'react'
import { PURPOSES, SURFACES, type JobFields } from '@oak-gauge/contract'
import { problemOf, usePatchJobMutation, useScannersQuery } from '../../api.ts'
import { Amount } from '../../looks/Amount.tsx'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { useOpenJob } from '../../job/useJob.ts'
import { WorkCard } from '../../job/WorkCard.tsx'
import type { CardProps } from '../cards.ts'
import { FitWords } from '../ready/fitness.tsx'
import { t } from '../../words/t.ts'

export function BriefCard({ go }: CardProps) {
  const { state } = useOpenJob()
  const [fields, setFields] = useState<JobFields>(() => {
    const { title, part, purpose, tolerance, surface, notes, scanner } = state.job
    return { title, part, purpose, tolerance, surface, notes, scanner }
  })
  const [patch, { error, isLoading }] = usePatchJobMutation()
  const set = (f: Partial<JobFields>) => setFields({ ...fields, ...f })
  const changed = (Object.keys(fields) as (keyof JobFields)[]).some((k) => fields[k] !== state.job[k])
  const problem = problemOf(error)
  const { data: scanners } = useScannersQuery(undefined, { skip: !fields.scanner })
  const own = scanners?.find((s) => s.id === fields.scanner)
  const save = async () => {
    if (changed) {
      const r = await patch({ id: state.job.id, patch: fields })
      if (r.error) return
    }
    go('Ready')
  }
  return (
    <WorkCard
      question={t('What is asked of this part?')}
      about={t('Limits, cell sizes and verdicts later on start from what is said here.')}
      foot={
        <Button type="primary" loading={isLoading} disabled={!fields.title.trim()} onClick={() => void save()}>
          {changed ? t('Keep and go on') : t('Go on to Ready')}
        </Button>
      }
    >
      <div className="field">
        <label htmlFor="b-title">{t('Name of the part')}</label>
        <Input id="b-title" className="wide" value={fields.title} maxLength={120} onChange={(e) => set({ title: e.target.value })} />
      </div>
      <div className="field">
        <label htmlFor="b-part">{t('Belongs to')}</label>
        <Input id="b-part" className="wide" value={fields.part} maxLength={200} onChange={(e) => set({ part: e.target.value })} />
      </div>
      <div className="field">
        <label htmlFor="b-purpose">{t('Purpose')}</label>
        <Select
          id="b-purpose"
          className="control"
          value={fields.purpose}
          onChange={(purpose) => set({ purpose })}
          options={PURPOSES.map((p) => ({ value: p, label: p.replace('-', ' ') }))}
        />
      </div>
      <Amount
        label={t('Tolerance')}
        value={fields.tolerance ?? 0}
        onChange={(v) => set({ tolerance: v })}
        reason={fields.tolerance ? t('full width; half of it to each side') : t('not said yet')}
      />
      {own && <FitWords scanner={own} tolerance={fields.tolerance} />}
      <div className="field">
        <label htmlFor="b-surface">{t('Surface')}</label>
        <Select
          id="b-surface"
          className="control"
          value={fields.surface}
          onChange={(surface) => set({ surface })}
          options={SURFACES.map((p) => ({ value: p, label: p }))}
        />
      </div>
      <div className="field">
        <label htmlFor="b-notes">{t('Notes')}</label>
        <Input.TextArea id="b-notes" className="wide" rows={4} value={fields.notes} maxLength={4000} onChange={(e) => set({ notes: e.target.value })} />
      </div>
      {problem && <ProblemBox problem={problem} />}
    </WorkCard>
  )
}
