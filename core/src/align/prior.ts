import { invertRigid, multiply, rotationVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { cholesky, choleskyInverse, congruent } from '../base/solve.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'
import { motionOf, type Unknowns } from './unknowns.ts'

/**
 * Recorded poses as evidence: within one setup the scanner knew where it was, but for its tracking error. Each setup has a frame that may move as far as
 * surface holds it, and its passes sit in it as recorded, each off by about `sigma` along each axis and, by turning, at its lever; or, where it is known how
 * the frames of a pass were held, by its own covariance, of which what the data tell is the scale.
 */
export interface Prior {
  /** standard deviations along each axis, mm: of a turn at the pass's lever, and of a shift. A scanner may know its direction much better than its place */
  sigma: { turn: number; shift: number }
  /** what is guessed of both before the data tell, mm; null where they are known */
  guess: number | null
  recorded: Mat4[]
  /** of each pass: inverse of its covariance over sigma2, 6 x 6, of turn at its lever and shift of its middle; undefined where all axes are alike */
  shape: (Float64Array | undefined)[]
  /** frame of each pass; the anchor's is the last */
  frameOf: Int32Array
  /** correction of each frame, and its middle (3 each) and lever */
  frames: Mat4[]
  own: Unknowns
  /** motions of frames that no surface holds, 6 numbers for each frame: they stay where they are */
  frozen: Float64Array[]
}

export function makePrior(
  setups: ArrayLike<number>,
  anchor: number,
  poses: Mat4[],
  sigma: number,
  guess: number | null,
  centres: ArrayLike<number>,
  levers: ArrayLike<number>,
  held: readonly (PassHeld | null)[] = [],
): Prior {
  const order = [...new Set(Array.from(setups))].filter((s) => s !== setups[anchor])
  order.push(setups[anchor])
  const frameOf = Int32Array.from(poses, (_, i) => order.indexOf(setups[i]))
  const frames = order.length
  const centre: number[] = []
  const lever: number[] = []
  for (let f = 0; f < frames; f++) {
    const list = [...frameOf.keys()].filter((i) => frameOf[i] === f)
    for (let k = 0; k < 3; k++) centre.push(list.reduce((s, i) => s + centres[3 * i + k], 0) / list.length)
    lever.push(Math.max(...list.map((i) => levers[i])))
  }
  return {
    sigma: { turn: sigma, shift: sigma },
    guess,
    recorded: poses.map((p) => Float64Array.from(p)),
    shape: poses.map((pose, i) => {
      const of = held[i]
      if (!of) return undefined
      return shapeOf(of, pose, [centres[3 * i], centres[3 * i + 1], centres[3 * i + 2]], levers[i], guess ?? sigma)
    }),
    frameOf,
    frames: Array.from({ length: frames }, () => Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)),
    own: { slotOf: Int32Array.from({ length: frames }, (_, i) => i), count: frames, centre: Float64Array.from(centre), lever: Float64Array.from(lever) },
    frozen: [],
  }
}

/** How well a recorded pass is held in the axes of its setup: turn (rad) about a place and shift (mm), in its own coordinates. */
export type PassHeld = Pick<PoseUncertainty, 'about'> & { covariance: readonly number[] }

/** Its information over that of `unit` mm along each axis, about the middle of the pass where it lies. Undefined where its covariance is none. */
function shapeOf({ about, covariance }: PassHeld, pose: Mat4, centre: readonly number[], lever: number, unit: number): Float64Array | undefined {
  const at = transformPoint(pose, about[0], about[1], about[2])
  const [x, y, z] = [0, 1, 2].map((k) => centre[k] - at[k])
  const cross = [0, z, -y, -z, 0, x, y, -x, 0]
  // turned into the job's axes; the middle goes by w x (centre - at) + t
  const j = new Float64Array(36)
  for (let r = 0; r < 3; r++)
    for (let c = 0; c < 3; c++) {
      j[6 * r + c] = (lever / unit) * pose[4 * r + c]
      j[6 * (r + 3) + c + 3] = pose[4 * r + c] / unit
      for (let k = 0; k < 3; k++) j[6 * (r + 3) + c] += (cross[3 * r + k] * pose[4 * k + c]) / unit
    }
  const l = cholesky(congruent(j, Float64Array.from(covariance)), 6)
  return l ? choleskyInverse(l, 6) : undefined
}

/** Weight of a departure of pass i: 6 x 6, 1 / mm2. */
function weightOf(p: Prior, i: number): Float64Array {
  const w = new Float64Array(36)
  for (let r = 0; r < 6; r++) for (let c = 0; c < 6; c++) w[6 * r + c] = (p.shape[i]?.[6 * r + c] ?? (r === c ? 1 : 0)) / (deviation(p, r) * deviation(p, c))
  return w
}
const deviation = (p: Prior, k: number) => (k < 3 ? p.sigma.turn : p.sigma.shift)

/** Sums of squared departures in units of what each pass is held by beside sigma, mm2: of turns, and of shifts. */
export function squares(p: Prior, i: number, d: Float64Array): { turn: number; shift: number } {
  const sum = { turn: 0, shift: 0 }
  const shape = p.shape[i]
  for (let r = 0; r < 6; r++)
    for (let c = r < 3 ? 0 : 3; c < (r < 3 ? 3 : 6); c++) sum[r < 3 ? 'turn' : 'shift'] += d[r] * d[c] * (shape ? shape[6 * r + c] : r === c ? 1 : 0)
  return sum
}

/** The largest departure of a pass along any axis, in deviations. */
export function deviations(p: Prior, i: number, d: Float64Array): number {
  const w = weightOf(p, i)
  return Math.max(...d.map((v, k) => Math.abs(v) * Math.sqrt(w[7 * k])))
}

/** How far a pass sits from where it was recorded in its frame: turn at its lever (3) and shift of its middle (3), mm. */
export function departure(p: Prior, i: number, pose: Mat4, centre: ArrayLike<number>, lever: number, out: Float64Array): void {
  const off = multiply(pose, invertRigid(multiply(p.frames[p.frameOf[i]], p.recorded[i])))
  const r = rotationVector(off)
  const c = transformPoint(off, centre[0], centre[1], centre[2])
  for (let k = 0; k < 3; k++) {
    out[k] = r[k] * lever
    out[3 + k] = c[k] - centre[k]
  }
}

/**
 * Adds the prior to equations over the slots of `u` and, behind them, those of the frames; size: 6 (u.count + frames). A pass that stays put
 * holds its frame alone. only: of turns or of shifts alone.
 */
export function addPrior(
  p: Prior,
  u: Unknowns,
  poses: Mat4[],
  centres: ArrayLike<number>,
  levers: ArrayLike<number>,
  h: Float64Array,
  g: Float64Array,
  only?: 'turn' | 'shift',
): void {
  const size = g.length
  const d = new Float64Array(6)
  const unit = new Float64Array(6)
  const weighed = new Float64Array(6)
  const counts = (k: number) => !only || only === (k < 3 ? 'turn' : 'shift')
  for (let i = 0; i < poses.length; i++) {
    const f = p.frameOf[i]
    const w = weightOf(p, i)
    for (let r = 0; r < 6; r++) for (let c = 0; c < 6; c++) if (!counts(r) || !counts(c)) w[6 * r + c] = 0
    const c = [centres[3 * i], centres[3 * i + 1], centres[3 * i + 2]]
    departure(p, i, poses[i], c, levers[i], d)
    // how the departure grows with each unknown: 6 columns for the pass, 6 for the frame
    const columns: [number, Float64Array][] = []
    const s = u.slotOf[i]
    for (let k = 0; k < 6 && s >= 0; k++) {
      unit.fill(0)
      unit[k] = 1
      columns.push([6 * s + k, columnOf(u, s, unit, c, levers[i], 1)])
    }
    for (let k = 0; k < 6; k++) {
      unit.fill(0)
      unit[k] = 1
      columns.push([6 * (u.count + f) + k, columnOf(p.own, f, unit, c, levers[i], -1)])
    }
    for (const [a, x] of columns) {
      for (let r = 0; r < 6; r++) {
        weighed[r] = 0
        for (let k = 0; k < 6; k++) weighed[r] += w[6 * r + k] * x[k]
      }
      for (let k = 0; k < 6; k++) g[a] += weighed[k] * d[k]
      for (const [b, y] of columns) {
        let v = 0
        for (let k = 0; k < 6; k++) v += weighed[k] * y[k]
        h[a * size + b] += v
      }
    }
  }
  if (only) return
  const from = 6 * u.count
  const firm = (FROZEN * poses.length) / (p.sigma.turn * p.sigma.shift)
  for (const v of p.frozen) for (let a = 0; a < v.length; a++) for (let b = 0; b < v.length; b++) h[(from + a) * size + from + b] += firm * v[a] * v[b]
}

/** How much more firmly than by the record a motion is held that is to stay where it is. */
const FROZEN = 1e3

/** Unknowns of the frames alone, the anchor's held: what all passes of a setup do together. */
export const frameUnknowns = (p: Prior): Unknowns => ({
  slotOf: p.frameOf.map((f) => (f === p.frames.length - 1 ? -1 : f)),
  count: p.frames.length - 1,
  centre: p.own.centre,
  lever: p.own.lever,
})

/** Turn at a lever and shift of a place that unit numbers of a slot make. */
function columnOf(u: Unknowns, slot: number, unit: Float64Array, at: number[], lever: number, sign: number): Float64Array {
  const l = u.lever[slot]
  const w = [unit[0] / l, unit[1] / l, unit[2] / l]
  const r = [0, 1, 2].map((k) => at[k] - u.centre[3 * slot + k])
  return Float64Array.of(
    sign * w[0] * lever,
    sign * w[1] * lever,
    sign * w[2] * lever,
    sign * (unit[3] + w[1] * r[2] - w[2] * r[1]),
    sign * (unit[4] + w[2] * r[0] - w[0] * r[2]),
    sign * (unit[5] + w[0] * r[1] - w[1] * r[0]),
  )
}

/** Moves the frames against their part of a step. */
export function moveFrames(p: Prior, step: ArrayLike<number>, from: number): void {
  for (let f = 0; f < p.frames.length; f++) p.frames[f] = multiply(motionOf(p.own, f, step, from + 6 * f, -1), p.frames[f])
}
