import { Button } from 'antd'
import type { Step } from '@oak-gauge/contract'
import { isAsking, useCancelStepMutation } from '../api.ts'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import type { Progress } from '../progress.ts'
import { Card, type CardFrame } from '../looks/Card.tsx'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { duration, formatValue } from '../looks/quantity.ts'
import { useAppSelector } from '../store.ts'
import { useOpenJob } from './useJob.ts'
import type { RunningStep } from './useStep.ts'
import { t } from '../words/t.ts'

/** A card of a job: shows the step that runs below its settings. */
export function WorkCard({ children, ...frame }: CardFrame) {
  const { busy, state } = useOpenJob()
  const asking = useAppSelector(isAsking(state.job.id))
  return (
    <Card {...frame}>
      {children}
      {busy ? <Running step={busy} /> : asking && <span hidden data-running="asked" />}
    </Card>
  )
}

/** A running step: how far, how long still, and a way to stop it. */
function Running({ step }: { step: Step }) {
  const { state } = useOpenJob()
  const p: Progress | undefined = useAppSelector((s) => s.progress.steps[step.id])
  const [cancel] = useCancelStepMutation()
  const waiting = state.steps.filter((s) => s.state === 'queued').length - (step.state === 'queued' ? 1 : 0)
  const share = p?.progress ?? 0
  return (
    <div className="running" role="status" data-running={step.operation}>
      <div className="abreast">
        <b className="grow">{step.title}</b>
        <Button size="small" onClick={() => void cancel({ id: state.job.id, step: step.id })}>
          {t('Cancel')}
        </Button>
      </div>
      <div className="bar" role="progressbar" aria-valuenow={Math.round(100 * share)} aria-valuemin={0} aria-valuemax={100} aria-label={step.title}>
        <i style={{ width: `${100 * share}%` }} />
      </div>
      <span className="hint">
        {step.state === 'queued' ? step.phase || t('waits its turn') : p?.phase || step.file || t('begins')}
        {p?.remaining != null && p.remaining > 900 ? t(', about {{remaining}} left', { remaining: duration(p.remaining) }) : ''}
        {waiting > 0 ? t(', {{waiting}} more after it', { waiting }) : ''}
      </span>
    </div>
  )
}

export function StepProblem({ of }: { of: RunningStep }) {
  if (!of.problem) return null
  return (
    <ProblemBox problem={of.problem}>
      <div className="abreast">
        {of.again && (
          <Button size="small" onClick={of.again}>
            {t('Go on from there')}
          </Button>
        )}
        <Button size="small" onClick={of.forget}>
          {t('Close')}
        </Button>
      </div>
    </ProblemBox>
  )
}

/** The numbers of a step, without those of single passes. */
export function Numbers({ step, ids, limit = 6 }: { step: Step | undefined; ids?: QuantityId[]; limit?: number }) {
  const list = step?.evidence?.quantities.filter((q) => (q.of === undefined || step.operation === 'flag') && (!ids || ids.includes(q.id))).slice(0, limit) ?? []
  if (!list.length) return null
  return (
    <dl className="rows" data-evidence={step?.operation}>
      {list.map((q) => (
        <div key={q.id} className="apart">
          <dt>{q.name}</dt>
          <dd data-quantity={q.id}>
            {formatValue(q)} {q.unit}
          </dd>
        </div>
      ))}
    </dl>
  )
}

export function Warnings({ step }: { step: Step | undefined }) {
  return (
    <>
      {step?.evidence?.warnings.map((w) => (
        <p className="note" key={w}>
          {w}
        </p>
      ))}
    </>
  )
}
