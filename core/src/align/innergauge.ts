import { rotateVector, transformPoint } from '../base/mat4.ts'
import { cholesky, choleskyInverse, product6 } from '../base/solve.ts'
import type { Adjustment } from './adjustment.ts'

/** Slots up to which all covariances are carried over; beyond, each pass keeps its own against the anchor. */
export const MOST_SLOTS = 40
const PLACES = 400

export interface InnerGauge {
  /** centre of the turns, job coordinates, mm */
  about: [number, number, number]
  /** 36 a pass: covariance of (turn in rad, shift in mm); null for a pass that is not held */
  covariance: (Float64Array | null)[]
}

/**
 * Covariance of each pass against the mean of all held ones, instead of against the anchor: the motion that fits all of their surface
 * best is taken out (S-transformation, Baarda 1973), as laying the merged part on its nominal will take it out. What remains is how the
 * passes are off against one another.
 * full: (6 slots)^2, in the numbers of the adjustment; loose: passes that are not held. Nothing where the surface of all does not hold itself.
 */
export function innerGauge(job: Adjustment, full: Float64Array, loose: (i: number) => boolean): InnerGauge | null {
  const u = job.unknowns
  const held = job.passes.map((_, i) => i).filter((i) => !loose(i))
  const about = [0, 1, 2].map((k) => held.reduce((s, i) => s + job.centres[3 * i + k], 0) / Math.max(1, held.length)) as [number, number, number]
  const lever = Math.max(...held.map((i) => job.levers[i]), 1e-9)
  // what each slot's surface says of a common motion, in turns as movement at the lever
  const sums = new Map<number, Float64Array>()
  const all = new Float64Array(36)
  const row = new Float64Array(6)
  for (const i of held) {
    const s = u.slotOf[i]
    let own = sums.get(s)
    if (!own) sums.set(s, (own = new Float64Array(36)))
    const { xyz, normals, index } = job.match[i].surfels
    const step = Math.max(1, Math.floor(index.length / PLACES))
    for (let k = 0; k < index.length; k += step) {
      const at = 3 * index[k]
      const p = transformPoint(job.poses[i], xyz[at], xyz[at + 1], xyz[at + 2])
      const n = rotateVector(job.poses[i], normals[at], normals[at + 1], normals[at + 2])
      const [x, y, z] = [0, 1, 2].map((c) => (p[c] - about[c]) / lever)
      row.set([y * n[2] - z * n[1], z * n[0] - x * n[2], x * n[1] - y * n[0], ...n])
      for (let a = 0; a < 6; a++)
        for (let b = 0; b < 6; b++) {
          own[6 * a + b] += row[a] * row[b]
          all[6 * a + b] += row[a] * row[b]
        }
    }
  }
  const l = cholesky(all, 6)
  if (!l) return null
  const inverse = choleskyInverse(l, 6)
  // of each slot: its share in the common motion, times the change from its own numbers to the common ones
  const slots = [...sums.keys()].filter((s) => s >= 0)
  const change = new Map(slots.map((s) => [s, toCommon(job, s, about, lever)]))
  const shares = new Map(slots.map((s) => [s, product6(product6(inverse, sums.get(s) as Float64Array), change.get(s) as Float64Array)]))
  const size = 6 * u.count
  const covariance = job.passes.map((_, i): Float64Array | null => {
    if (loose(i)) return null
    const own = u.slotOf[i]
    const factor = new Map(
      slots.map((s) => {
        const t = (shares.get(s) as Float64Array).map((v) => -v)
        if (s === own) (change.get(s) as Float64Array).forEach((v, k) => (t[k] += v))
        return [s, t]
      }),
    )
    const out = new Float64Array(36)
    for (const a of slots)
      for (const b of slots) {
        const block = Float64Array.from({ length: 36 }, (_, k) => full[(6 * a + Math.floor(k / 6)) * size + 6 * b + (k % 6)])
        const part = product6(product6(factor.get(a) as Float64Array, block), transposed(factor.get(b) as Float64Array))
        for (let k = 0; k < 36; k++) out[k] += part[k]
      }
    for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) out[6 * p + q] *= (p < 3 ? 1 / lever : 1) * (q < 3 ? 1 / lever : 1)
    return out.every(Number.isFinite) ? out : null
  })
  return { about, covariance }
}

/** A slot's numbers (turn about its own middle as movement at its own lever, shift) as the same about the common middle and lever. */
function toCommon(job: Adjustment, slot: number, about: number[], lever: number): Float64Array {
  const { centre, lever: own } = job.unknowns
  const m = new Float64Array(36)
  const d = [0, 1, 2].map((k) => about[k] - centre[3 * slot + k])
  for (let k = 0; k < 3; k++) {
    m[7 * k] = lever / own[slot]
    m[6 * (k + 3) + k + 3] = 1
  }
  // a turn moves the common middle by omega x d
  const w = 1 / own[slot]
  m[6 * 3 + 1] = w * d[2]
  m[6 * 3 + 2] = -w * d[1]
  m[6 * 4 + 0] = -w * d[2]
  m[6 * 4 + 2] = w * d[0]
  m[6 * 5 + 0] = w * d[1]
  m[6 * 5 + 1] = -w * d[0]
  return m
}

const transposed = (a: ArrayLike<number>) => Float64Array.from({ length: 36 }, (_, k) => a[6 * (k % 6) + Math.floor(k / 6)])
