import { lastOf, quantity, type Step, type TrayItem } from '@oak-gauge/contract'
import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'

/** One line for a job's card: what came out last, or what is to be done next. */
export function headlineOf(stage: string, path: Step[], tray: TrayItem[]): string {
  const passes = tray.filter((i) => i.role === 'pass')
  const figure = (operation: string, id: QuantityId, digits: number) => {
    const q = quantity(lastOf(path, operation), id)
    return typeof q?.value === 'number' ? `${q.value.toFixed(digits)} ${q.unit}` : null
  }
  const inspected = lastOf(path, 'deviation')
  if (inspected) {
    const within = quantity(inspected, 'within')
    return `Inspect: ${typeof within?.value === 'number' ? within.value.toFixed(1) : '?'} % ${within?.name ?? ''}`
  }
  if (lastOf(path, 'best-fit')) return `Datum: best fit ${figure('best-fit', 'best-fit-rms', 3) ?? ''} rms`
  if (lastOf(path, 'merge')) return 'Merge: done, not yet placed'
  if (lastOf(path, 'adjust')) return `Align: worst pass ${figure('adjust', 'alignment-worst-pass', 3) ?? ''}`
  const known = quantity(lastOf(path, 'map-markers', 'import-markers'), 'markers')
  if (!passes.length && known) return `Mark: ${known.value} markers known`
  const planned = quantity(lastOf(path, 'plan-markers'), 'markers')
  if (!passes.length && planned) return `Mark: ${planned.value} markers planned`
  if (passes.length) return `${stage}: ${passes.length} recorded passes wait`
  return 'Nothing recorded yet'
}
