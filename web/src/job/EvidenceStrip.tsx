import type { Step } from '@oak-gauge/contract'
import { lastOf, quantity } from '@oak-gauge/contract'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { formatValue, type Shown } from '../looks/quantity.ts'
import { useAppDispatch } from '../store.ts'
import { view } from '../view/viewSlice.ts'
import { useOpenJob } from './useJob.ts'

/** Which numbers matter at which stage: label, operation, quantity. */
const WANTED: [label: string, operation: string, id: QuantityId][] = [
  ['Alignment, worst pass', 'adjust', 'alignment-worst-pass'],
  ['Gap between passes, rms', 'adjust', 'gap-between-passes-rms'],
  ['Surface noise', 'merge', 'surface-noise'],
  ['Cell size', 'merge', 'cell-size'],
  ['Reduced, largest deviation', 'reduce', 'reduced-largest'],
  ['Best fit, rms', 'best-fit', 'best-fit-rms'],
  ['Free directions', 'best-fit', 'free-directions'],
  ['Mean deviation', 'deviation', 'deviation-mean'],
]
const MARKS: typeof WANTED = [
  ['Markers known', 'map-markers', 'markers'],
  ['Marker position, U', 'map-markers', 'marker-u-largest'],
  ['Markers planned', 'plan-markers', 'markers'],
  ['Directions with enough', 'plan-markers', 'directions-with-enough'],
]
const MOST = 6

export function EvidenceStrip({ back, forward }: { back: (() => void) | null; forward: (() => void) | null }) {
  const { path, passes, stage } = useOpenJob()
  const dispatch = useAppDispatch()
  const cells: { label: string; q: Shown; before: Shown | undefined }[] = []
  for (const [label, operation, id] of stage === 'Mark' ? [...MARKS, ...WANTED] : [...WANTED, ...MARKS]) {
    const step = lastOf(path, operation)
    const q = quantity(step, id)
    if (!q) continue
    const earlier = path.filter((s: Step) => s.operation === operation && s.id !== step?.id).at(-1)
    cells.push({ label, q, before: quantity(earlier, id) })
  }
  const points = passes.reduce((s, p) => s + p.count, 0)
  const first =
    cells.length < 3 && points
      ? [
          { label: 'Points', q: { value: points, unit: '' }, before: undefined },
          { label: 'Passes', q: { value: passes.length, unit: '' }, before: undefined },
        ]
      : []
  return (
    <div className="strip">
      {[...first, ...cells].slice(0, MOST).map(({ label, q, before }) => (
        <button key={label} type="button" className="plain cell" onClick={() => dispatch(view.ledger(true))} title="Open the ledger">
          <span className="what">{label}</span>
          <span className="value" data-strip={label}>
            {formatValue(q)}
            <small>{q.unit}</small>
            {before && typeof before.value === 'number' && typeof q.value === 'number' && before.value !== q.value && (
              <small title={`before: ${formatValue(before)} ${before.unit}`}>{q.value < before.value ? '↓' : '↑'}</small>
            )}
          </span>
        </button>
      ))}
      <div className="end">
        <button type="button" className="plain" onClick={() => dispatch(view.ledger(true))}>
          Ledger, {path.length} {path.length === 1 ? 'step' : 'steps'}
        </button>
        <button type="button" className="chip" disabled={!back} onClick={() => back?.()} style={{ opacity: back ? 1 : 0.45 }}>
          <span className="key">Z</span> step back
        </button>
        {forward && (
          <button type="button" className="chip" onClick={forward}>
            <span className="key">Shift Z</span> forward
          </button>
        )}
      </div>
    </div>
  )
}
