import type { Mat4 } from '../base/mat4.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { robustSigma } from '../base/stats.ts'
import { MATCH, overThreads, PAIRS, type Matches } from './match.ts'
import type { Unknowns } from './unknowns.ts'

/** One match at the present poses. */
export interface Evaluated {
  /** gap along the mean of both normals, mm */
  gap: number
  /** mean normal, and the middle between both places, in the job */
  n: Float64Array
  p: Float64Array
  /** 1 - cosine between the normals of both sides */
  disagreement: number
}

export const newEvaluated = (): Evaluated => ({ gap: 0, n: new Float64Array(3), p: new Float64Array(3), disagreement: 0 })

/** Plane-to-plane gap with the mean of both normals (symmetric objective, Rusinkiewicz 2019). */
export function evaluate(d: Float64Array, o: number, A: Mat4, B: Mat4, e: Evaluated): void {
  let l2 = 0
  let gap = 0
  const { n, p } = e
  for (let k = 0; k < 3; k++) {
    const r = 4 * k
    const v = A[r] * d[o + 3] + A[r + 1] * d[o + 4] + A[r + 2] * d[o + 5] + B[r] * d[o + 9] + B[r + 1] * d[o + 10] + B[r + 2] * d[o + 11]
    n[k] = v
    l2 += v * v
  }
  const l = Math.sqrt(l2)
  e.disagreement = 2 - l2 / 2
  for (let k = 0; k < 3; k++) {
    const r = 4 * k
    const a = A[r] * d[o] + A[r + 1] * d[o + 1] + A[r + 2] * d[o + 2] + A[r + 3]
    const b = B[r] * d[o + 6] + B[r + 1] * d[o + 7] + B[r + 2] * d[o + 8] + B[r + 3]
    n[k] /= l
    p[k] = (a + b) / 2
    gap += (a - b) * n[k]
  }
  e.gap = gap
}

/** Gaps of all matches in order, mm. */
export function gaps(all: Matches[], poses: Mat4[]): Float64Array {
  const r = new Float64Array(all.reduce((s, m) => s + m.count, 0))
  const e = newEvaluated()
  let k = 0
  for (const m of all)
    for (let i = 0; i < m.count; i++) {
      evaluate(m.data, MATCH * i, poses[m.a], poses[m.b], e)
      r[k++] = e.gap
    }
  return r
}

/** Row of a slot for a gap along n at p: how the gap grows with its six numbers. */
export function rowOf(u: Unknowns, slot: number, p: ArrayLike<number>, n: ArrayLike<number>, out: Float64Array): void {
  const l = u.lever[slot]
  const x = (p[0] - u.centre[3 * slot]) / l
  const y = (p[1] - u.centre[3 * slot + 1]) / l
  const z = (p[2] - u.centre[3 * slot + 2]) / l
  out[0] = y * n[2] - z * n[1]
  out[1] = z * n[0] - x * n[2]
  out[2] = x * n[1] - y * n[0]
  out[3] = n[0]
  out[4] = n[1]
  out[5] = n[2]
}

/** mean normal, middle and disagreement of each match of the pair at hand */
let scratch = new Float64Array(0)

export interface NormalEquations {
  /** 6m x 6m: information of the matches, 1/mm^2 */
  h: Float64Array
  /** what the noise of the normals alone would make of it where nothing holds */
  noise: Float64Array
  g: Float64Array
  size: number
}

/** Squared angle of normals that even a noiseless scan has beside edges, rad^2: half a degree. */
const LEAST_TILT = 1e-6

/** Tukey's biweight for a gap against a bound. */
export const tukey = (gap: number, bound: number): number => {
  const t = gap / bound
  return t * t >= 1 ? 0 : (1 - t * t) ** 2
}

/**
 * Sums of one Gauss-Newton step over all unknowns. bound: gaps of this size and more do not count, mm (Beaton and Tukey 1974), but never below 4.685
 * deviations of the pair itself. The sums of a pair are made once, about its own middle, and brought to the slots of both passes: a match costs 21 products
 * where both slots' rows cost 108.
 */
export async function normalEquations(all: Matches[], poses: Mat4[], u: Unknowns, bound: number, ctx: RunContext): Promise<NormalEquations> {
  const size = 6 * u.count
  const h = new Float64Array(size * size)
  const noise = new Float64Array(size * size)
  const g = new Float64Array(size)
  const between = all.filter((m) => u.slotOf[m.a] !== u.slotOf[m.b])
  const parts = await overThreads(pairSums, { all: between, poses, u, bound }, between, ctx)
  between.forEach((match, k) => {
    const part = parts[Math.floor(k / PAIRS)]
    const o = SUMS * (k % PAIRS)
    const [sums, tangents, grad] = [part.subarray(o, o + 36), part.subarray(o + 36, o + 72), part.subarray(o + 72, o + SUMS)]
    const [sa, sb] = [u.slotOf[match.a], u.slotOf[match.b]]
    const slot = sa >= 0 ? sa : sb
    const [cx, cy, cz] = u.centre.subarray(3 * slot, 3 * slot + 3)
    const l = u.lever[slot]
    const ta = sa >= 0 ? carry(u, sa, cx, cy, cz, l) : null
    const tb = sb >= 0 ? carry(u, sb, cx, cy, cz, l) : null
    for (const [out, from] of [
      [h, sums],
      [noise, tangents],
    ] as const) {
      if (ta) scatter(out, size, sa, sa, ta, from, ta, 1)
      if (tb) scatter(out, size, sb, sb, tb, from, tb, 1)
      if (ta && tb) {
        scatter(out, size, sa, sb, ta, from, tb, -1)
        scatter(out, size, sb, sa, tb, from, ta, -1)
      }
    }
    for (let p = 0; p < 6; p++)
      for (let q = 0; q < 6; q++) {
        if (ta) g[6 * sa + p] += ta[6 * p + q] * grad[q]
        if (tb) g[6 * sb + p] -= tb[6 * p + q] * grad[q]
      }
  })
  return { h, noise, g, size }
}

interface PairArgs {
  all: Matches[]
  poses: Mat4[]
  u: Unknowns
  bound: number
}

/** Sums of one pair: information (36), what noise would make of it (36), gradient (6), about the middle of its first slot that moves. */
const SUMS = 78

const pairSums = defineKernel('align.sums', ({ all, poses, u, bound }: PairArgs, start: number, end: number) => {
  const out = new Float64Array(SUMS * (end - start))
  for (let k = start; k < end; k++) sumPair(all[k], poses, u, bound, out, SUMS * (k - start))
  return out
})

function sumPair(match: Matches, poses: Mat4[], u: Unknowns, bound: number, out: Float64Array, at0: number): void {
  const { count, data } = match
  const at = newEvaluated()
  if (scratch.length < 7 * count) scratch = new Float64Array(10 * count)
  const seen = scratch
  const own = new Float64Array(count)
  let ss = 0
  for (let i = 0; i < count; i++) {
    evaluate(data, MATCH * i, poses[match.a], poses[match.b], at)
    own[i] = at.gap
    ss += at.gap * at.gap
    const o = 7 * i
    seen[o] = at.n[0]
    seen[o + 1] = at.n[1]
    seen[o + 2] = at.n[2]
    seen[o + 3] = at.p[0]
    seen[o + 4] = at.p[1]
    seen[o + 5] = at.p[2]
    seen[o + 6] = at.disagreement
  }
  // half of all values are smaller than the root of twice their mean square: where the bound lies beyond that in any case, nothing has to be sorted
  const c = bound * bound * count > 2 * (4.685 * 1.4826) ** 2 * ss ? bound : Math.max(bound, 4.685 * robustSigma(own))
  const slot = u.slotOf[match.a] >= 0 ? u.slotOf[match.a] : u.slotOf[match.b]
  const [cx, cy, cz] = u.centre.subarray(3 * slot, 3 * slot + 3)
  const l = u.lever[slot]
  const sums = out.subarray(at0, at0 + 36)
  const grad = out.subarray(at0 + 72, at0 + SUMS)
  // sums of w, w p, w p p'
  const w1 = new Float64Array(3)
  const w2 = new Float64Array(9)
  let w0 = 0
  let apart = 0
  let counted = 0
  for (let i = 0; i < count; i++) {
    const t = tukey(own[i], c)
    if (t === 0) continue
    const o = 7 * i
    const w = t * data[MATCH * i + 12] * data[MATCH * i + 13]
    apart += t * Math.min(0.01, seen[o + 6])
    counted += t
    const x = (seen[o + 3] - cx) / l
    const y = (seen[o + 4] - cy) / l
    const z = (seen[o + 5] - cz) / l
    const d = seen[o]
    const e = seen[o + 1]
    const f = seen[o + 2]
    const a = y * f - z * e
    const b = z * d - x * f
    const g = x * e - y * d
    // by hand: five times as fast as loops over rows in arrays
    const wa = w * a
    const wb = w * b
    const wg = w * g
    const wd = w * d
    const we = w * e
    const wf = w * f
    sums[0] += wa * a
    sums[1] += wa * b
    sums[2] += wa * g
    sums[3] += wa * d
    sums[4] += wa * e
    sums[5] += wa * f
    sums[7] += wb * b
    sums[8] += wb * g
    sums[9] += wb * d
    sums[10] += wb * e
    sums[11] += wb * f
    sums[14] += wg * g
    sums[15] += wg * d
    sums[16] += wg * e
    sums[17] += wg * f
    sums[21] += wd * d
    sums[22] += wd * e
    sums[23] += wd * f
    sums[28] += we * e
    sums[29] += we * f
    sums[35] += wf * f
    const gap = own[i]
    grad[0] += wa * gap
    grad[1] += wb * gap
    grad[2] += wg * gap
    grad[3] += wd * gap
    grad[4] += we * gap
    grad[5] += wf * gap
    const wx = w * x
    const wy = w * y
    const wz = w * z
    w0 += w
    w1[0] += wx
    w1[1] += wy
    w1[2] += wz
    w2[0] += wx * x
    w2[1] += wx * y
    w2[2] += wx * z
    w2[4] += wy * y
    w2[5] += wy * z
    w2[8] += wz * z
  }
  for (let p = 0; p < 6; p++) for (let q = 0; q < p; q++) sums[6 * p + q] = sums[6 * q + p]
  w2[3] = w2[1]
  w2[6] = w2[2]
  w2[7] = w2[5]
  // half of the squared angle between both normals is their disagreement; of their mean a quarter, and half of that along each direction
  const tilt = Math.max(LEAST_TILT, counted ? apart / counted / 4 : 0)
  const tangents = allDirections(w0, w1, w2)
  for (let p = 0; p < 36; p++) out[at0 + 36 + p] = tilt * (tangents[p] - sums[p])
}

/** Sum of r r' over rows of all three directions at once: [p]x [p]x' and [p]x beside w, in whatever directions the surface looks. */
function allDirections(w0: number, w1: Float64Array, w2: Float64Array): Float64Array {
  const out = new Float64Array(36)
  const trace = w2[0] + w2[4] + w2[8]
  for (let p = 0; p < 3; p++) {
    for (let q = 0; q < 3; q++) out[6 * p + q] = (p === q ? trace : 0) - w2[3 * p + q]
    out[6 * (3 + p) + 3 + p] = w0
  }
  const [x, y, z] = w1
  const skew = [0, -z, y, z, 0, -x, -y, x, 0]
  for (let p = 0; p < 3; p++)
    for (let q = 0; q < 3; q++) {
      out[6 * p + 3 + q] = skew[3 * p + q]
      out[6 * (3 + q) + p] = skew[3 * p + q]
    }
  return out
}

/** 6 x 6 that makes a slot's row out of one about another middle and lever. */
function carry(u: Unknowns, slot: number, cx: number, cy: number, cz: number, lever: number): Float64Array {
  const l = u.lever[slot]
  const [x, y, z] = [(cx - u.centre[3 * slot]) / l, (cy - u.centre[3 * slot + 1]) / l, (cz - u.centre[3 * slot + 2]) / l]
  const f = lever / l
  const t = new Float64Array(36)
  t[0] = t[7] = t[14] = f
  t[21] = t[28] = t[35] = 1
  t[4] = -z
  t[5] = y
  t[9] = z
  t[11] = -x
  t[15] = -y
  t[16] = x
  return t
}

/** Adds f A S B' at the place of two slots. */
function scatter(out: Float64Array, size: number, row: number, column: number, a: Float64Array, s: Float64Array, b: Float64Array, f: number): void {
  for (let p = 0; p < 6; p++) {
    for (let q = 0; q < 6; q++) {
      let sum = 0
      for (let i = 0; i < 6; i++) {
        const ai = a[6 * p + i]
        if (ai === 0) continue
        for (let j = 0; j < 6; j++) sum += ai * s[6 * i + j] * b[6 * q + j]
      }
      out[(6 * row + p) * size + 6 * column + q] += f * sum
    }
  }
}
