import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import { identity, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { SolvedMap } from '@oak-gauge/core/markers/map.ts'
import { worstUncertainty, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { widestAngle, type Tracked, type Tracker } from '@oak-gauge/core/markers/tracker.ts'
import type { MappedMarker, MappingRun as RunView } from '@oak-gauge/contract'
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

/** The markers as the browser shows them, in the axes of the map. */
export function mappedMarkers(
  tracker: Tracker,
  view: Pick<RunView, 'target' | 'missing' | 'moved'>,
  { solved, last, shown, known }: { solved: SolvedMap | undefined; last: Tracked | undefined; shown: Mat4 | undefined; known: Markers | undefined },
): MappedMarker[] {
  const pose = shown ?? identity()
  const index = new Map(solved?.numbers.map((n, i) => [n, i]) ?? [])
  const now = new Set(last?.pairs ?? [])
  return tracker.known.flatMap((k, n) => {
    if (k.same !== null) return []
    const i = index.get(n)
    const id = i === undefined || !solved ? (known?.ids[n] ?? '') : solved.markers.ids[i]
    const u = i === undefined || !solved ? null : 2 * worstUncertainty(solved.markers.covariance, i)
    const angle = widestAngle(k.seenFrom)
    const own: MappedMarker = {
      id,
      at: transformPoint(pose, k.x, k.y, k.z),
      diameter: k.diameter,
      u,
      angle,
      sightings: k.sightings,
      now: now.has(n),
      state: view.missing.includes(id) ? 'gone' : u === null ? 'new' : u <= view.target ? 'enough' : angle < 25 ? 'directions' : 'frames',
      moved: view.moved.findLast((m) => m.id === id)?.distance ?? null,
    }
    return [own]
  })
}
