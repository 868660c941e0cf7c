import { invertRigid, multiply, rotationVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { motionOf, type Unknowns } from './unknowns.ts'

/**
 * Recorded poses as evidence: within one setup the scanner knew where it was, but for its tracking error. Each setup has a frame that may move as far as
 * surface holds it, and its passes sit in it as recorded, each off by about `sigma` along each axis and, by turning, at its lever.
 */
export interface Prior {
  /** standard deviations along each axis, mm: of a turn at the pass's lever, and of a shift. A scanner may know its direction much better than its place */
  sigma: { turn: number; shift: number }
  /** what is guessed of both before the data tell, mm; null where they are known */
  guess: number | null
  recorded: Mat4[]
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
    frameOf,
    frames: Array.from({ length: frames }, () => Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)),
    own: { slotOf: Int32Array.from({ length: frames }, (_, i) => i), count: frames, centre: Float64Array.from(centre), lever: Float64Array.from(lever) },
    frozen: [],
  }
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
  const w = Array.from({ length: 6 }, (_, k) => (only && only !== (k < 3 ? 'turn' : 'shift') ? 0 : 1 / (k < 3 ? p.sigma.turn : p.sigma.shift) ** 2))
  const d = new Float64Array(6)
  const unit = new Float64Array(6)
  for (let i = 0; i < poses.length; i++) {
    const f = p.frameOf[i]
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
      for (let k = 0; k < 6; k++) g[a] += w[k] * x[k] * d[k]
      for (const [b, y] of columns) {
        let v = 0
        for (let k = 0; k < 6; k++) v += w[k] * x[k] * y[k]
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
