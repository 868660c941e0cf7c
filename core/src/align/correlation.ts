import type { Mat4 } from '../base/mat4.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { quantile, robustSigma } from '../base/stats.ts'
import { MATCH, overThreads, type Matches } from './match.ts'
import { evaluate, newEvaluated } from './normalequations.ts'

/** How alike the errors of two places are, by their distance: found from the gaps, never assumed. */
export interface Correlation {
  /** upper ends of the classes of distance, mm */
  until: Float64Array
  /** covariance of normalised gaps (gap over its expected deviation) in each class; falls from class to class, never negative */
  value: Float64Array
  /** variance of normalised gaps: 1 when noise is independent and rightly estimated */
  variance: number
}

/** Gaps of a pair that are looked at, and products of all pairs together: of many pairs fewer tell as much. */
const PER_PAIR = 300
const PRODUCTS = 4e5
/** Shortest distance over which errors may be alike, in radii of the surfaces that are compared. */
const SHORTEST = 0.6
const MOST_SCALES = 6
/**
 * Reach of what runs smoothly over a pass, in its lever. One component of several widths: which of them it is cannot be told from gaps that have lost their motions, and left to
 * chance the shorter one makes the stated error half as large.
 */
const SMOOTH = [0.4, 0.65, 1]
/** One scanner has one calibration: what it leaves is alike in all passes, so that their errors add up where independent ones would partly cancel. Zoo, 0.8 mm, correlated noise. */
const COHERENT = 2

/**
 * Covariance of gaps by distance, as a sum of white noise and bells of several widths, each as strong as the gaps show it (variance components, Helmert 1907; Rao 1971: what the gaps' products in
 * each class of distance should be under each component, and non-negative least squares). Smoothing, ripple and what a calibration leaves behind make neighbours err alike: counted as
 * independent, they make a stated error several times too small. The adjustment has taken most of a smooth error out of the gaps before anybody looks at them: expected products
 * are those of gaps that have lost their best-fitting motion.
 * Tried: an empirical variogram made to fall with distance, long correlations tripled: on correlated noise right on average, three times too small for one pass in a hundred.
 * radius: of the surfaces that were compared; lever: of a typical pass, mm.
 */
export async function correlationOf(all: Matches[], poses: Mat4[], radius: number, lever: number, ctx: RunContext): Promise<Correlation> {
  const ends: number[] = []
  for (let d = 0.35 * radius; ends.length < 24; d *= ends.length < 5 ? 1.5 : 1.35) ends.push(d)
  const until = Float64Array.from(ends)
  const span = Math.max(0, Math.log2((SMOOTH[0] * lever) / (SHORTEST * radius)))
  const scales = Math.min(MOST_SCALES, Math.max(1, Math.ceil(span))) + 1
  // from the shortest on, each about twice the one before; the last stands for all that is smooth
  const widths = Float64Array.from({ length: scales }, (_, m) => (m === scales - 1 ? lever : SHORTEST * radius * 2 ** ((span * m) / (scales - 1))))
  const components = scales + 1
  // classes of distance that a pass has, and one for the squares
  const classes = until.filter((d) => d < 3 * lever).length + 1
  const got = new Float64Array(classes)
  const expected = new Float64Array(classes * components)
  const count = new Float64Array(classes)
  const perPair = Math.min(PER_PAIR, Math.max(30, Math.sqrt((2 * PRODUCTS) / Math.max(1, all.length))))
  for (const p of await overThreads(products, { all, poses, perPair, until, widths, classes }, all, ctx)) {
    for (let i = 0; i < got.length; i++) got[i] += p.got[i]
    for (let i = 0; i < expected.length; i++) expected[i] += p.expected[i]
    for (let i = 0; i < count.length; i++) count[i] += p.count[i]
  }
  const strength = nonNegative(expected, got, count, classes, components)
  const variance = strength.reduce((s, v) => s + v, 0) || 1
  strength[scales] *= COHERENT
  const at = (d: number) => widths.reduce((s, w, m) => s + strength[m + 1] * shape(m === scales - 1, d / w), 0)
  let below = 0
  const value = until.map((d) => {
    const middle = (below + d) / 2
    below = d
    return at(middle)
  })
  return { until, value, variance }
}

const bell = (t: number) => Math.exp(-t * t)
/** Covariance of a component at a distance in its own width. */
const shape = (smooth: boolean, t: number) => (smooth ? SMOOTH.reduce((s, w) => s + bell(t / w), 0) / SMOOTH.length : bell(t))

interface ProductArgs {
  all: Matches[]
  poses: Mat4[]
  perPair: number
  until: Float64Array
  widths: Float64Array
  classes: number
}

const products = defineKernel('align.products', ({ all, poses, perPair, until, widths, classes }: ProductArgs, start: number, end: number) => {
  const got = new Float64Array(classes)
  const expected = new Float64Array(classes * (widths.length + 1))
  const count = new Float64Array(classes)
  for (let k = start; k < end; k++) addPair(all[k], poses, perPair, until, widths, classes, got, expected, count)
  return { got, expected, count }
})

/** Adds the products of a pair's gaps to their classes of distance, and what each component would make of them. */
function addPair(
  m: Matches,
  poses: Mat4[],
  perPair: number,
  until: Float64Array,
  widths: Float64Array,
  classes: number,
  got: Float64Array,
  expected: Float64Array,
  count: Float64Array,
): void {
  const e = newEvaluated()
  // by lot, so that the same gaps are looked at however the passes lie
  const lots = Float64Array.from({ length: m.count }, (_, i) => m.data[MATCH * i + 14])
  const cut = m.count > perPair ? quantile(lots, perPair / m.count) : Infinity
  const z: number[] = []
  const place: number[] = []
  const normal: number[] = []
  for (let i = 0; i < m.count; i++) {
    if (lots[i] > cut) continue
    const o = MATCH * i
    evaluate(m.data, o, poses[m.a], poses[m.b], e)
    z.push(e.gap * Math.sqrt(m.data[o + 12]))
    place.push(...e.p)
    normal.push(...e.n)
  }
  const bound = 4.685 * robustSigma(z)
  const use = [...z.keys()].filter((i) => Math.abs(z[i]) <= bound)
  const n = use.length
  if (n < 12) return
  const q = motionBasis(use, place, normal)
  const distance = new Float64Array(n * n)
  for (let i = 0; i < n; i++)
    for (let j = 0; j < i; j++) {
      const [a, b] = [3 * use[i], 3 * use[j]]
      const x = place[a] - place[b]
      const y = place[a + 1] - place[b + 1]
      const z = place[a + 2] - place[b + 2]
      // Math.hypot takes ten times as long
      distance[i * n + j] = distance[j * n + i] = Math.sqrt(x * x + y * y + z * z)
    }
  const classOf = new Int32Array(n * n)
  for (let i = 0; i < n; i++)
    for (let j = 0; j < i; j++) {
      let k = 0
      while (k < until.length && distance[i * n + j] > until[k]) k++
      classOf[i * n + j] = k + 1
    }
  for (let i = 0; i < n; i++)
    for (let j = 0; j <= i; j++) {
      const k = classOf[i * n + j]
      if (k >= classes) continue
      got[k] += z[use[i]] * z[use[j]]
      count[k]++
    }
  const v = new Float64Array(n * n)
  for (let c = 0; c <= widths.length; c++) {
    for (let i = 0; i < n; i++)
      for (let j = 0; j <= i; j++) v[i * n + j] = c === 0 ? (i === j ? 1 : 0) : shape(c === widths.length, distance[i * n + j] / widths[c - 1])
    withoutMotion(v, q, n)
    for (let i = 0; i < n; i++)
      for (let j = 0; j <= i; j++) {
        const k = classOf[i * n + j]
        if (k < classes) expected[k * (widths.length + 1) + c] += v[i * n + j]
      }
  }
}

/** Orthonormal columns (n x r, row major) of what the six motions of one pass do to the gaps (Gram and Schmidt). */
function motionBasis(use: number[], place: number[], normal: number[]): Float64Array[] {
  const n = use.length
  const middle = [0, 1, 2].map((k) => use.reduce((s, i) => s + place[3 * i + k], 0) / n)
  const columns = Array.from({ length: 6 }, () => new Float64Array(n))
  use.forEach((i, r) => {
    const [nx, ny, nz] = normal.slice(3 * i, 3 * i + 3)
    const [x, y, z] = [0, 1, 2].map((k) => place[3 * i + k] - middle[k])
    ;[nx, ny, nz, y * nz - z * ny, z * nx - x * nz, x * ny - y * nx].forEach((c, k) => (columns[k][r] = c))
  })
  const basis: Float64Array[] = []
  for (const c of columns) {
    const whole = Math.hypot(...c)
    for (const b of basis) {
      let s = 0
      for (let i = 0; i < n; i++) s += b[i] * c[i]
      for (let i = 0; i < n; i++) c[i] -= s * b[i]
    }
    const left = Math.hypot(...c)
    // a motion that these gaps do not feel
    if (left < 1e-3 * whole || left === 0) continue
    basis.push(c.map((v) => v / left))
  }
  return basis
}

/** P V P with P = 1 - Q Q', in place; of the symmetric v the lower half is read and written. */
function withoutMotion(v: Float64Array, q: Float64Array[], n: number): void {
  const along = new Float64Array(n)
  for (const b of q) {
    along.fill(0)
    for (let i = 0; i < n; i++) {
      const row = i * n
      let s = v[row + i] * b[i]
      for (let j = 0; j < i; j++) {
        s += v[row + j] * b[j]
        along[j] += v[row + j] * b[i]
      }
      along[i] += s
    }
    let both = 0
    for (let i = 0; i < n; i++) both += b[i] * along[i]
    // v - b a' - a b' + (b a) b b'
    for (let i = 0; i < n; i++) {
      const row = i * n
      const [bi, ai] = [b[i], along[i] - both * b[i]]
      for (let j = 0; j <= i; j++) v[row + j] -= bi * along[j] + ai * b[j]
    }
  }
}

/** Strengths >= 0 that explain what was got best, each class counted by the number of its products (coordinate descent on the normal equations). */
function nonNegative(expected: Float64Array, got: Float64Array, count: Float64Array, classes: number, components: number): Float64Array {
  const a = new Float64Array(components * components)
  const b = new Float64Array(components)
  for (let k = 0; k < classes; k++) {
    if (!count[k]) continue
    for (let p = 0; p < components; p++) {
      const w = expected[k * components + p] / count[k]
      b[p] += w * got[k]
      for (let q = 0; q < components; q++) a[p * components + q] += w * expected[k * components + q]
    }
  }
  const x = new Float64Array(components)
  for (let it = 0; it < 4000; it++)
    for (let p = 0; p < components; p++) {
      let s = b[p]
      for (let q = 0; q < components; q++) if (q !== p) s -= a[p * components + q] * x[q]
      x[p] = a[p * components + p] > 0 ? Math.max(0, s / a[p * components + p]) : 0
    }
  return x
}

export function correlationAt(c: Correlation, d: number): number {
  let k = 0
  while (k < c.until.length && d > c.until[k]) k++
  return k === c.until.length ? 0 : c.value[k]
}
