import { lastOf, quantity, STAGES, type Stage, type Step } from '@oak-gauge/contract'
import { formatValue, type Shown } from '../looks/quantity.ts'
import { useAppDispatch } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'

const MOST = 6

/** Last steps of each kind that has figures to show, in the order of the work; marks come first only while marking. */
function telling(path: Step[], stage: Stage): Step[] {
  const place = (s: Step) => (s.stage === 'Mark' && stage !== 'Mark' ? STAGES.length : STAGES.indexOf(s.stage))
  return path.filter((s) => s.shows.length && lastOf(path, s.operation) === s).sort((a, b) => place(a) - place(b))
}

const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1)

/** The figures that matter, at the foot of every stage. */
export function EvidenceStrip({ back, forward }: { back: (() => void) | null; forward: (() => void) | null }) {
  const { path, passes, stage } = useOpenJob()
  const dispatch = useAppDispatch()
  const cells: { label: string; q: Shown; before: Shown | undefined }[] = []
  for (const step of telling(path, stage)) {
    const earlier = path.filter((s) => s.operation === step.operation && s.id !== step.id).at(-1)
    for (const id of step.shows) {
      const q = quantity(step, id)
      if (q) cells.push({ label: capital(q.name), q, before: quantity(earlier, id) })
    }
  }
  const points = passes.reduce((s, p) => s + p.count, 0)
  const first =
    cells.length < 3 && points
      ? [
          { label: t('Points'), q: { value: points, unit: '' }, before: undefined },
          { label: t('Passes'), q: { value: passes.length, unit: '' }, before: undefined },
        ]
      : []
  // of all passes, and not again of the last one
  const rest = first.length ? cells.filter((c) => c.label !== first[0].label) : cells
  return (
    <div className="strip">
      {[...first, ...rest].slice(0, MOST).map(({ label, q, before }) => (
        <button key={label} type="button" className="plain cell" onClick={() => dispatch(view.ledger(true))} title={t('Open the ledger')}>
          <span className="what">{label}</span>
          <span className="value" data-strip={label}>
            {formatValue(q)}
            <small>{q.value === 'unknown' ? '' : q.unit}</small>
            {before && typeof before.value === 'number' && typeof q.value === 'number' && before.value !== q.value && (
              <small title={t('before: {{before}} {{unit}}', { before: formatValue(before), unit: before.unit })}>{q.value < before.value ? '↓' : '↑'}</small>
            )}
          </span>
        </button>
      ))}
      <div className="end">
        <button type="button" className="plain" onClick={() => dispatch(view.ledger(true))}>
          {t('Ledger, {{count}} steps', { count: path.length })}
        </button>
        <button type="button" className="chip" disabled={!back} onClick={() => back?.()}>
          <span className="key">Z</span> {t('step back')}
        </button>
        {forward && (
          <button type="button" className="chip" onClick={forward}>
            <span className="key">{t('Shift Z')}</span> {t('forward')}
          </button>
        )}
      </div>
    </div>
  )
}
