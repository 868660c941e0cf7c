import { Button } from 'antd'
import { useState } from 'react'
import type { Step, TrayItem } from '@oak-gauge/contract'
import { problemOf, useRerunStepMutation } from '../../api.ts'
import { Under } from '../../job/Under.tsx'
import { useOpenJob } from '../../job/useJob.ts'
import { ProblemBox } from '../../looks/ProblemBox.tsx'
import { TimeLine } from './TimeLine.tsx'
import { t } from '../../words/t.ts'

type Span = [number, number]
const spansOf = (step: Step): Span[] => (step.params['without'] ?? []) as Span[]

/** The step that made a pass of a recording, on the present branch. */
export const recordedBy = (path: Step[], pass: TrayItem): Step | undefined =>
  path.findLast((s) => s.operation === 'solve-recording' && s.evidence?.timeline && (s.outputs['pass'] ?? []).includes(pass.slot))

/** How a pass was recorded. What is left out is solved without it, and what came after it in the ledger is done once more; the branch left behind stays. */
export function RecordedPass({ step, pass }: { step: Step; pass: TrayItem }) {
  const { state, path, busy } = useOpenJob()
  const [draft, setDraft] = useState<Span[] | null>(null)
  const [rerun, { error, isLoading }] = useRerunStepMutation()
  const problem = problemOf(error)
  const line = step.evidence?.timeline
  if (!line) return null
  const after = path.length - 1 - path.indexOf(step)
  const changed = draft !== null && JSON.stringify(draft) !== JSON.stringify(spansOf(step))
  const solve = () => void rerun({ id: state.job.id, step: step.id, params: { ...step.params, without: draft } }).then((r) => !r.error && setDraft(null))
  return (
    <Under>
      {/* what was cleaned or thinned since does not lie in the order of time any more */}
      <TimeLine line={line} slot={pass.step === step.id ? pass.slot : null} without={draft ?? spansOf(step)} change={busy ? null : setDraft}>
        {changed && (
          <>
            <Button size="small" type="primary" loading={isLoading} onClick={solve}>
              {after ? t('Solve again, and the {{after}} after it', { after }) : t('Solve again')}
            </Button>
            <Button size="small" onClick={() => setDraft(null)}>
              {t('As it was')}
            </Button>
          </>
        )}
      </TimeLine>
      {problem && <ProblemBox problem={problem} />}
    </Under>
  )
}
