import { jacobiEigen } from '../base/eigen.ts'
import { fromRotationVector, invertRigid, multiply, translation, type Mat4 } from '../base/mat4.ts'
import type { LiveFrame } from './liveframe.ts'
import { growingSurface, type GrowingSurface } from './surface.ts'
import { leverOf, shapeTracker, type ShapePose, type ShapeTracker } from './trackshape.ts'
import { judgeFrame, type FrameReason } from './verdict.ts'

/** A frame: its points, and how bright they are where that counts. */
type Seen = Pick<LiveFrame, 'xyz' | 'levels'>

/** Cubes of the coarsest surface: so many of the fine one, and at least so much of the first frame's lever. The rough one lies between them. */
const COARSE = 16
const COARSE_LEVER = 0.3
/** points with which those lead: the fine surface decides */
const LEADS = 2500
/** deviation across a cube that a part's shape brings, in cubes: what is no plane at that size still says where it is */
const UNEVEN = 0.3
/** one point in so many enters the rough surface, the coarse one */
const ROUGH_SHARE = 4
const COARSE_SHARE = 8
/** of a place that is found again: more of it must meet surface, and less be hidden, than of one that was led there */
const FOUND_MET = 0.85
export const FOUND_HIDDEN = 0.015
/** starts beside a found place, mm and rad: what comes to rest elsewhere and fits as well says that the part looks alike there */
const BESIDE = [12, 25]
const BESIDE_TURN = 0.12
const AS_WELL = 0.9
/** farther ones, in coarse cubes along the axes of what is seen, as far as a place is found from; there less of its points may lie elsewhere as well */
const FAR = 2
const FAR_LESS = 0.02
/** further from one another than this, mm at the lever, two places are two; nearer than this, one has come to rest */
const TWO = 2
const AT_REST = 0.1
/** a frame is laid so many times more where it has not come to rest: along what few points hold it creeps */
const CREEPS = 4
/** other starts, in turn one a frame: mm from where it was left, along what is seen */
const ASIDE = 12

/**
 * Finds the place of a frame again by its shape, near where it was lost: on a coarse, a rough and the fine surface, one after the other. Cubes of a third of
 * what a frame spans lead it there from some 50 mm and 12 degrees; those of four spacings alone from some 10 mm (measured: of 8 ways back to a tray that were
 * 30 to 50 mm off, 1 was found so, and all with the coarse ones). A place that could as well be another is none: starts beside it, and along the axes of what is
 * seen as far as the coarse surface reaches, and half turned, must not come to rest elsewhere and fit as well. Tried: starts beside it led by the coarse surface,
 * too: it leads all of them to the one place, and of 16 ways back to a row of ribs four ended a rib beside it.
 */
export function refinder(surface: GrowingSurface, shape: ShapeTracker, o: { noise: number; error: number }) {
  let levels: ReturnType<typeof begin> | undefined
  /** frames that were looked for in vain */
  let tries = 0
  const begin = (lever: number) => {
    const side = Math.max(COARSE * surface.side, COARSE_LEVER * lever)
    const rough = growingSurface(Math.sqrt(side * surface.side), o.noise)
    const coarse = growingSurface(side, o.noise)
    return {
      rough,
      coarse,
      roughly: shapeTracker(rough, { noise: o.noise, gate: 2 * rough.side, points: 800, most: LEADS, seeks: 0 }),
      coarsely: shapeTracker(coarse, { noise: UNEVEN * side, gate: 2 * side, points: 400, most: LEADS, seeks: 0 }),
    }
  }

  const held = (laid: ShapePose | FrameReason): laid is ShapePose => typeof laid !== 'string' && Math.max(...laid.sigmas) <= o.error

  /** Lays a frame, ever more finely, where it has to fit. from: the level that leads it. but: not there. Something may be free. */
  const settle = ({ xyz, levels: bright }: Seen, start: Mat4, from: 'coarse' | 'rough', but?: ShapePose): ShapePose | FrameReason => {
    if (!levels) return 'elsewhere'
    const led = (from === 'coarse' && levels.coarsely.lay(xyz, start)?.pose) || start
    const near = levels.roughly.lay(xyz, led)
    // it would end there
    if (!near || (but && apart(near, but) < TWO)) return 'elsewhere'
    let laid = shape.lay(xyz, near.pose, undefined, bright)
    for (let k = 0, before = near; k < CREEPS && !but && laid && !held(laid) && apart(laid, before) > AT_REST; k++) {
      before = laid
      laid = shape.lay(xyz, before.pose, undefined, bright)
    }
    if (!laid || laid.met < FOUND_MET || (but && apart(laid, but) < TWO)) return 'elsewhere'
    const v = judgeFrame(surface, xyz, laid, laid.pose, { error: o.error, since: 0 })
    if (v.state === 'lost') return v.why
    return v.hidden < FOUND_HIDDEN ? laid : 'hidden'
  }

  const alikeBeside = (seen: Seen, found: ShapePose): boolean => {
    for (const far of BESIDE)
      for (let axis = 0; axis < 6; axis++) {
        const side = axis % 2 ? -far : far
        const shift = [0, 0, 0]
        shift[axis >> 1] = side
        const turn = [0, 0, 0]
        turn[((axis >> 1) + 1) % 3] = (Math.sign(side) * BESIDE_TURN * far) / BESIDE[1]
        const other = settle(seen, about(found, shift, turn), 'rough', found)
        if (held(other) && other.fits > AS_WELL * found.fits) return true
      }
    return false
  }
  const alikeFar = (seen: Seen, found: ShapePose): boolean => {
    const axes = axesOf(seen.xyz, found.pose)
    for (let k = 0; k < 3; k++) {
      const axis = [axes[k], axes[3 + k], axes[6 + k]]
      const far = FAR * (levels?.coarse.side ?? 0)
      const starts = [
        about(
          found,
          axis.map((v) => far * v),
          [0, 0, 0],
        ),
        about(
          found,
          axis.map((v) => -far * v),
          [0, 0, 0],
        ),
        about(
          found,
          [0, 0, 0],
          axis.map((v) => Math.PI * v),
        ),
      ]
      for (const start of starts)
        for (const from of ['coarse', 'rough'] as const) {
          const other = settle(seen, start, from, found)
          if (held(other) && other.fits > found.fits - FAR_LESS) return true
        }
    }
    return false
  }

  return {
    /** A frame (3N mm, scanner coordinates) that entered the surface. */
    add(xyz: Float32Array, pose: Mat4, frame: number): void {
      levels ??= begin(leverOf(xyz))
      levels.rough.addFrame(xyz, pose, frame, ROUGH_SHARE)
      levels.coarse.addFrame(xyz, pose, frame, COARSE_SHARE)
    },
    /** Takes one out again. */
    take(xyz: Float32Array, pose: Mat4, frame: number): void {
      levels?.rough.takeFrame(xyz, pose, frame, ROUGH_SHARE)
      levels?.coarse.takeFrame(xyz, pose, frame, COARSE_SHARE)
    },
    /** Whether a frame could as well lie beside where it was laid; farther away, too. */
    alikeBeside,
    alike: (seen: Seen, laid: ShapePose) => alikeBeside(seen, laid) || alikeFar(seen, laid),
    /** Where it lies, or why that is not known. Where something is free, whether it could as well lie elsewhere is to be asked when it is held. */
    find(seen: Seen, ghost: Mat4): ShapePose | FrameReason {
      const { xyz } = seen
      let found = settle(seen, ghost, 'coarse')
      if (!held(found)) {
        const near = settle(seen, ghost, 'rough')
        if (typeof found === 'string' || held(near)) found = near
      }
      if (typeof found === 'string') {
        const axes = axesOf(xyz, ghost)
        const turn = tries++ % 4
        const side = turn < 2 ? ASIDE : -ASIDE
        // along the two in which it spreads most
        const k = 1 + (turn % 2)
        const aside = settle(seen, multiply(translation(side * axes[k], side * axes[3 + k], side * axes[6 + k]), ghost), 'rough')
        if (typeof aside !== 'string') found = aside
      }
      return held(found) && (alikeBeside(seen, found) || alikeFar(seen, found)) ? 'alike' : found
    },
  }
}
export type Refinder = ReturnType<typeof refinder>

/** A pose moved about the middle of what is seen. */
function about({ pose, middle: [x, y, z] }: ShapePose, shift: readonly number[], turn: readonly number[]): Mat4 {
  const back = multiply(translation(-x, -y, -z), pose)
  return multiply(translation(x + shift[0], y + shift[1], z + shift[2]), multiply(fromRotationVector(turn[0], turn[1], turn[2]), back))
}

/** Axes along which the points of a frame spread, as columns, in the surface's coordinates. */
function axesOf(xyz: Float32Array, pose: Mat4): Float64Array {
  const step = 3 * Math.max(1, Math.floor(xyz.length / 3 / 500))
  const sum = [0, 0, 0]
  const m = new Float64Array(9)
  let n = 0
  for (let i = 0; i < xyz.length; i += step, n++)
    for (let r = 0; r < 3; r++) {
      sum[r] += xyz[i + r]
      for (let c = 0; c < 3; c++) m[3 * r + c] += xyz[i + r] * xyz[i + c]
    }
  for (let r = 0; r < 3; r++) for (let c = 0; c < 3; c++) m[3 * r + c] -= (sum[r] * sum[c]) / n
  const { vectors } = jacobiEigen(m, 3)
  const axes = new Float64Array(9)
  for (let r = 0; r < 3; r++) for (let c = 0; c < 3; c++) for (let k = 0; k < 3; k++) axes[3 * r + c] += pose[4 * r + k] * vectors[3 * k + c]
  return axes
}

/** How far apart two places of a frame are, mm at its lever. */
function apart(a: ShapePose, b: ShapePose): number {
  const d = multiply(a.pose, invertRigid(b.pose))
  const [x, y, z] = b.middle
  const at = [0, 1, 2].map((k) => d[4 * k] * x + d[4 * k + 1] * y + d[4 * k + 2] * z + d[4 * k + 3] - b.middle[k])
  // twice the sine of half the angle: a half turn is one
  const turn = Math.sqrt(Math.max(0, 3 - d[0] - d[5] - d[10]))
  return Math.hypot(...at, turn * b.lever)
}
