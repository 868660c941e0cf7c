import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { ScannerRow } from '../db/scannermodels.ts'
import type { ScannerKeeper } from './keeper.ts'

export function idle(keeper: ScannerKeeper, id: string): void {
  const { run } = keeper.of(id)
  if (run && !run.over()) throw new OakError('busy', `A ${run.kind} of this scanner is going on.`, { remedy: 'End it first, or give it up.' })
}

/** Measuring with a cold scanner wants an explicit "anyway". */
export function warmEnough(keeper: ScannerKeeper, row: ScannerRow, anyway: boolean): void {
  keeper.link(row.id)
  const { state } = keeper.of(row.id)
  if (state && !state.warm && !anyway)
    throw new OakError('cold', `${row.name} is still warming up (${state.celsius.toFixed(1)} °C).`, {
      remedy: 'Wait until it is warm; what is measured before drifts away. If it must be now, say so: it is recorded.',
    })
}
