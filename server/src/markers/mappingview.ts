import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import type { MappingRun as RunView } from '@oak-gauge/contract'
import type { MappingOptions } from './mappingrun.ts'

/** What the browser is told of a mapping before the first frame. */
export const emptyView = (o: MappingOptions, { range, turntable }: ScannerSpec): RunView => ({
  kind: 'mapping',
  job: o.job,
  setup: o.setup,
  phase: 'recording',
  sequence: 0,
  frames: 0,
  lost: 0,
  tracking: 'none',
  why: '',
  inView: 0,
  fits: 0,
  target: o.target,
  enough: 0,
  markers: [],
  moved: [],
  missing: [],
  absent: [],
  added: [],
  scanner: null,
  distance: null,
  range,
  standIn: o.stage !== null,
  turntable,
  path: null,
  problem: null,
  step: null,
})

/** From the scanner to the middle of the markers in view (x, y, z, diameter each), mm. */
export function middleDistance(markers: number[]): number | null {
  const n = markers.length / 4
  if (!n) return null
  let z = 0
  for (let i = 0; i < n; i++) z += markers[4 * i + 2]
  return z / n
}
