import type { Mat4 } from '../base/mat4.ts'
import { robustSigma } from '../base/stats.ts'
import { cubesOf } from '../space/cubes.ts'
import { MATCH, type Matches } from './match.ts'
import { evaluate, newEvaluated, rowOf, tukey } from './normalequations.ts'
import type { Unknowns } from './unknowns.ts'
import { varianceWithoutWeak, type WeakModes } from './weakmodes.ts'

/** How alike the errors of two places are, by their distance: found from the gaps, never assumed. */
export interface Correlation {
  /** upper ends of the classes of distance, mm */
  until: Float64Array
  /** covariance of normalised gaps (gap over its expected deviation) in each class; falls from class to class, never negative */
  value: Float64Array
  /** variance of normalised gaps: 1 when noise is independent and rightly estimated */
  variance: number
}

/** Gaps of a pair that are compared with one another, and products of all pairs together: of many pairs fewer tell as much. */
const PER_PAIR = 300
const PRODUCTS = 8e6
/** So many distances of a class are as good as independent at the most: the same places come back in all of them. */
const REACH = 2

/**
 * Covariance of gaps by distance (an empirical variogram, Matheron 1963), pooled over all pairs of passes and made to fall with distance
 * (pool adjacent violators; Ayer et al. 1955). Smoothing, ripple and what a calibration leaves behind make neighbours err alike: counted as independent,
 * they make a stated error several times too small. What cannot be told from chance is zero.
 * radius: of the surfaces that were compared; lever: of a typical pass, mm.
 */
export function correlationOf(all: Matches[], poses: Mat4[], radius: number, lever: number): Correlation {
  const ends: number[] = []
  for (let d = 0.35 * radius; ends.length < 24; d *= ends.length < 5 ? 1.5 : 1.35) ends.push(d)
  const until = Float64Array.from(ends)
  const sum = new Float64Array(until.length)
  const count = new Float64Array(until.length)
  const places = new Float64Array(until.length)
  let variance = 0
  let used = 0
  const e = newEvaluated()
  const perPair = Math.min(PER_PAIR, Math.max(30, Math.sqrt((2 * PRODUCTS) / Math.max(1, all.length))))
  for (const m of all) {
    const step = Math.max(1, m.count / perPair)
    const n = Math.floor(m.count / step)
    const z = new Float64Array(n)
    const p = new Float64Array(3 * n)
    const normal = new Float64Array(3 * n)
    for (let i = 0; i < n; i++) {
      const o = MATCH * Math.floor(i * step)
      evaluate(m.data, o, poses[m.a], poses[m.b], e)
      z[i] = e.gap * Math.sqrt(m.data[o + 12])
      p.set(e.p, 3 * i)
      normal.set(e.n, 3 * i)
    }
    const bound = 4.685 * robustSigma(z)
    const seen = new Uint8Array(until.length)
    for (let i = 0; i < n; i++) {
      if (Math.abs(z[i]) > bound) continue
      variance += z[i] * z[i]
      used++
      for (let j = 0; j < i; j++) {
        if (Math.abs(z[j]) > bound) continue
        const d = Math.hypot(p[3 * i] - p[3 * j], p[3 * i + 1] - p[3 * j + 1], p[3 * i + 2] - p[3 * j + 2])
        let k = 0
        while (k < until.length && d > until[k]) k++
        if (k === until.length) continue
        sum[k] += z[i] * z[j]
        count[k]++
        seen[k] = 1
      }
    }
    for (let k = 0; k < until.length; k++) if (seen[k]) places[k] += n
  }
  variance = used ? variance / used : 1
  const value = falling(sum, count)
  for (let k = 0; k < value.length; k++) {
    const chance = variance * Math.sqrt(1 / Math.max(1, count[k]) + REACH / Math.max(1, places[k]) ** 2)
    value[k] = count[k] && value[k] > 2 * chance ? Math.min(value[k], variance) : 0
  }
  return { until, value: withTakenUp(value, until, lever), variance }
}

/** Of an error that runs smoothly over a pass, poses take up most: what is left of it in the gaps is a third of its variance, over two thirds of its reach (zoo). */
const TAKEN_UP = 3
const STRETCH = 1.5
/** Errors that are alike beyond this share of a pass's lever are such. */
const SMOOTH_FROM = 0.2

/** Puts back what the adjustment itself has taken out of long correlations. */
function withTakenUp(value: Float64Array, until: Float64Array, lever: number): Float64Array {
  const at = (d: number) => {
    let k = 0
    while (k < until.length && d > until[k]) k++
    return k === until.length ? 0 : value[k]
  }
  const smooth = at(SMOOTH_FROM * lever)
  return value.map((v, k) => v + (TAKEN_UP - 1) * Math.min(smooth, at(until[k] / STRETCH)))
}

/** Weighted means of classes that never rise: where one rises over the one before, both are pooled. */
function falling(sum: Float64Array, count: Float64Array): Float64Array {
  const blocks: { s: number; n: number; many: number }[] = []
  for (let k = 0; k < sum.length; k++) {
    blocks.push({ s: sum[k], n: count[k], many: 1 })
    while (blocks.length > 1) {
      const [a, b] = blocks.slice(-2)
      if (b.n > 0 && a.n > 0 && a.s / a.n >= b.s / b.n) break
      blocks.splice(-2, 2, { s: a.s + b.s, n: a.n + b.n, many: a.many + b.many })
    }
  }
  const out: number[] = []
  for (const b of blocks) for (let i = 0; i < b.many; i++) out.push(b.n ? b.s / b.n : 0)
  return Float64Array.from(out)
}

export function correlationAt(c: Correlation, d: number): number {
  let k = 0
  while (k < c.until.length && d > c.until[k]) k++
  return k === c.until.length ? 0 : c.value[k]
}

/**
 * What smoothing leaves beside edges and where bends begin: no noise, so that it looks the same in all gaps of a feature, and hides in none of them as spread.
 */
export interface Bias {
  /** mm */
  size: number
  /** alike over this distance, mm */
  reach: number
}

/** Cubes of a pass, and of all passes together. */
const MOST_CELLS = 350
const ALL_CELLS = 16_000

/**
 * Covariance of the gradient: what the errors of all passes, alike over the distances of `c`, make of it (the middle of the sandwich H^-1 M H^-1; Huber 1967).
 * Every pass's error goes into the gaps to all its partners at once. Places are summed up in cubes; within one by their own distances.
 */
export function gradientCovariance(
  all: Matches[],
  poses: Mat4[],
  u: Unknowns,
  bound: number,
  c: Correlation,
  radius: number,
  bias: Bias,
  weak: WeakModes,
): Float64Array {
  const size = 6 * u.count
  const out = new Float64Array(size * size)
  const most = Math.min(MOST_CELLS, Math.max(60, ALL_CELLS / poses.length))
  const ofPass: Matches[][] = poses.map(() => [])
  for (const m of all)
    if (u.slotOf[m.a] !== u.slotOf[m.b]) {
      ofPass[m.a].push(m)
      ofPass[m.b].push(m)
    }
  for (let pass = 0; pass < poses.length; pass++) {
    const own = ofPass[pass]
    const slots = [...new Set(own.flatMap((m) => [u.slotOf[m.a], u.slotOf[m.b]]))].filter((s) => s >= 0)
    if (slots.length) addPass(own, pass, slots, poses, u, bound, c, radius, bias, out, size, most)
  }
  varianceWithoutWeak(out, size, weak)
  return out
}

function addPass(
  own: Matches[],
  pass: number,
  slots: number[],
  poses: Mat4[],
  u: Unknowns,
  bound: number,
  c: Correlation,
  radius: number,
  bias: Bias,
  out: Float64Array,
  size: number,
  most: number,
): void {
  const total = own.reduce((s, m) => s + m.count, 0)
  const columns = 6 * slots.length
  const place = new Map(slots.map((s, i) => [s, 6 * i]))
  const xyz = new Float64Array(3 * total)
  const amount = new Float64Array(total)
  let k = 0
  // places in the pass's own coordinates
  for (const m of own) {
    const at = m.a === pass ? 0 : 6
    for (let i = 0; i < m.count; i++, k++) for (let q = 0; q < 3; q++) xyz[3 * k + q] = m.data[MATCH * i + at + q]
  }
  let side = 1.5 * radius
  let cubes = cubesOf(xyz, side)
  while (cubes.count > most) {
    side *= 1.3
    cubes = cubesOf(xyz, side)
  }
  const g = new Float64Array(cubes.count * columns)
  const gb = new Float64Array(cubes.count * columns)
  const e = newEvaluated()
  const row = new Float64Array(6)
  k = 0
  for (const m of own) {
    const sigma = robustSigma(gapsOf(m, poses))
    const reachable = Math.max(bound, 4.685 * sigma)
    for (let i = 0; i < m.count; i++, k++) {
      evaluate(m.data, MATCH * i, poses[m.a], poses[m.b], e)
      const d = m.data
      const o = MATCH * i
      // half of a gap's variance is each pass's
      const w = tukey(e.gap, reachable) * Math.sqrt(d[o + 12] / 2) * d[o + 13]
      if (w === 0) continue
      amount[k] = w
      const sign = m.a === pass ? 1 : -1
      for (const [slot, s] of [
        [u.slotOf[m.a], 1],
        [u.slotOf[m.b], -1],
      ] as const) {
        if (slot < 0) continue
        rowOf(u, slot, e.p, e.n, row)
        const at = cubes.of[k] * columns + (place.get(slot) as number)
        for (let q = 0; q < 6; q++) {
          g[at + q] += sign * s * w * row[q]
          gb[at + q] += sign * s * w * Math.sqrt(2 * d[o + 12]) * row[q]
        }
      }
    }
  }
  const { middle, within } = insideCubes(xyz, amount, cubes.of, cubes.count, c, poses.length)
  // M = G' C G
  const cg = new Float64Array(cubes.count * columns)
  const cb = new Float64Array(cubes.count * columns)
  for (let a = 0; a < cubes.count; a++)
    for (let b = 0; b < cubes.count; b++) {
      const d = Math.hypot(middle[3 * a] - middle[3 * b], middle[3 * a + 1] - middle[3 * b + 1], middle[3 * a + 2] - middle[3 * b + 2])
      const f = a === b ? within[a] : correlationAt(c, d)
      const k = bias.size * bias.size * Math.exp(-d / bias.reach)
      if (f === 0 && k < 1e-3 * bias.size * bias.size) continue
      for (let q = 0; q < columns; q++) {
        cg[a * columns + q] += f * g[b * columns + q]
        cb[a * columns + q] += k * gb[b * columns + q]
      }
    }
  const sum = new Float64Array(columns * columns)
  for (let a = 0; a < cubes.count; a++)
    for (let p = 0; p < columns; p++) {
      const u = g[a * columns + p]
      const v = gb[a * columns + p]
      if (u === 0 && v === 0) continue
      for (let q = 0; q < columns; q++) sum[p * columns + q] += u * cg[a * columns + q] + v * cb[a * columns + q]
    }
  for (let p = 0; p < columns; p++)
    for (let q = 0; q < columns; q++) out[(6 * slots[Math.floor(p / 6)] + (p % 6)) * size + 6 * slots[Math.floor(q / 6)] + (q % 6)] += sum[p * columns + q]
}

function gapsOf(m: Matches, poses: Mat4[]): Float64Array {
  const e = newEvaluated()
  return Float64Array.from({ length: m.count }, (_, i) => {
    evaluate(m.data, MATCH * i, poses[m.a], poses[m.b], e)
    return e.gap
  })
}

/** Middle of each cube, and the mean covariance of two of its places, each counted by its amount. */
function insideCubes(xyz: Float64Array, amount: Float64Array, of: Int32Array, count: number, c: Correlation, passes: number) {
  const middle = new Float64Array(3 * count)
  const weight = new Float64Array(count)
  const lists: number[][] = Array.from({ length: count }, () => [])
  for (let i = 0; i < of.length; i++) {
    if (amount[i] === 0) continue
    weight[of[i]] += amount[i]
    for (let k = 0; k < 3; k++) middle[3 * of[i] + k] += amount[i] * xyz[3 * i + k]
    lists[of[i]].push(i)
  }
  const within = new Float64Array(count)
  const some = Math.min(100, Math.max(15, Math.sqrt(3.2e7 / (count * passes))))
  lists.forEach((list, cube) => {
    for (let k = 0; k < 3; k++) middle[3 * cube + k] /= weight[cube] || 1
    // some places tell as much as all
    const step = Math.max(1, list.length / some)
    let sum = 0
    let all = 0
    let square = 0
    let whole = 0
    for (const i of list) {
      square += amount[i] ** 2
      whole += amount[i]
    }
    for (let a = 0; a < list.length; a += step)
      for (let b = 0; b < a; b += step) {
        const [i, j] = [list[Math.floor(a)], list[Math.floor(b)]]
        if (i === j) continue
        const w = amount[i] * amount[j]
        sum += w * correlationAt(c, Math.hypot(xyz[3 * i] - xyz[3 * j], xyz[3 * i + 1] - xyz[3 * j + 1], xyz[3 * i + 2] - xyz[3 * j + 2]))
        all += w
      }
    const own = whole > 0 ? square / (whole * whole) : 0
    within[cube] = own * c.variance + (all ? ((1 - own) * sum) / all : 0)
  })
  return { middle, within }
}
