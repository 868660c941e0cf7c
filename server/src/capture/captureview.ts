import { rotateVector, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import type { CaptureRun as RunView } from '@oak-gauge/contract'
import { inMap, type CaptureOptions } from './storepass.ts'
import type { FromTracker, Grown } from './trackmessages.ts'

const floorView = (o: CaptureOptions): RunView['floor'] => ({
  floor: o.floor,
  floorMarkers: o.floorMarkers,
  raise: o.raise,
  markers: inMap(o) ? [...(o.map?.markers.ids ?? [])] : [],
  found: null,
  problem: null,
})
/** Where it is, is told when it was looked for. */
export const floorChosen = (view: RunView, o: CaptureOptions) => (view.floor = floorView(o))

/** What the browser is told of a recording before the first frame. */
export const emptyView = (o: CaptureOptions, { range }: ScannerSpec): RunView => ({
  kind: 'capture',
  job: o.job,
  setup: o.setup,
  by: o.by,
  map: inMap(o),
  spacing: o.spacing,
  phase: 'ready',
  sequence: 0,
  frames: 0,
  placed: 0,
  quarantine: 0,
  late: 0,
  tracking: 'none',
  why: '',
  contradicts: 0,
  inView: 0,
  distance: null,
  range,
  rate: 0,
  delay: 0,
  sigma: null,
  span: 0,
  surface: { version: 0, cubes: 0 },
  scanner: null,
  ghost: null,
  bytes: 0,
  seconds: 0,
  without: [],
  next: null,
  table: null,
  near: o.near,
  far: o.far,
  floor: floorView(o),
  light: { exposure: null, auto: false, spot: null, pattern: null, patterns: [], seen: null },
  standIn: o.stage !== null,
  path: null,
  problem: null,
  step: null,
})

const placeOf = (pose: Mat4) => ({ at: [pose[3], pose[7], pose[11]] as [number, number, number], looks: rotateVector(pose, 0, 0, 1) })

/** What the last frame came to. */
export function tracked(view: RunView, t: Extract<FromTracker, { type: 'tracked' }>): void {
  view.tracking = t.state
  view.why = t.why === 'fits' ? '' : t.why
  view.contradicts = t.contradicts
  view.quarantine = t.waiting
  view.placed = t.placed
  view.late = t.late
  view.span = t.span
  view.sigma = t.sigma !== null && Number.isFinite(t.sigma) ? t.sigma : null
  view.distance = t.distance ?? view.distance
  view.scanner = t.placed > 0 && (t.state === 'steady' || t.state === 'weak') ? placeOf(t.pose) : view.scanner
  view.ghost = t.ghost ? placeOf(t.ghost) : null
}

/** All is placed once more, so. */
export function placedAnew(view: RunView, { spacing, near, far }: CaptureOptions, { version }: Model): void {
  const none = { placed: 0, quarantine: 0, late: 0, span: 0, tracking: 'none' as const, why: '', sigma: null, scanner: null, ghost: null, next: null }
  Object.assign(view, none, { spacing, near, far, surface: { version, cubes: 0 } })
}

/** The model as the browser may have it, whole or what is new. */
export class Model {
  version = 0
  private cubes = new Float32Array(7 << 12)
  count = 0

  grow({ version, from, cubes }: Grown): void {
    this.version = version
    const n = from + cubes.length / 7
    if (7 * n > this.cubes.length) {
      const more = new Float32Array(14 * n)
      more.set(this.cubes.subarray(0, 7 * from))
      this.cubes = more
    }
    this.cubes.set(cubes, 7 * from)
    this.count = n
  }
  /** As a thread that begins now numbers it. */
  beginAnew(): void {
    this.version++
    this.count = 0
  }
  /** Undefined when that version is gone. */
  since(version: number, from: number): Float32Array | undefined {
    return version === this.version ? this.cubes.subarray(7 * Math.min(from, this.count), 7 * this.count) : undefined
  }
}
