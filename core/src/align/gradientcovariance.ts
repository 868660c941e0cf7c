import type { Mat4 } from '../base/mat4.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { robustSigma } from '../base/stats.ts'
import { cubesOf } from '../space/cubes.ts'
import { correlationAt, type Correlation } from './correlation.ts'
import { MATCH, type Matches } from './match.ts'
import { evaluate, newEvaluated, rowOf, tukey } from './normalequations.ts'
import type { Unknowns } from './unknowns.ts'
import { varianceWithoutWeak, type WeakModes } from './weakmodes.ts'

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

/** What the errors that go into it are like, and where. */
export interface Errors {
  poses: Mat4[]
  u: Unknowns
  /** gaps of this size and more do not count, mm */
  bound: number
  c: Correlation
  /** of the surfaces that were compared, mm */
  radius: number
  bias: Bias
}

/**
 * Covariance of the gradient: what the errors of all passes, alike over the distances of `c`, make of it (the middle of the sandwich H^-1 M H^-1; Huber 1967).
 * Every pass's error goes into the gaps to all its partners at once. Places are summed up in cubes; within one by their own distances.
 */
export async function gradientCovariance(all: Matches[], errors: Errors, weak: WeakModes, ctx: RunContext): Promise<Float64Array> {
  const { poses, u } = errors
  const size = 6 * u.count
  const out = new Float64Array(size * size)
  const most = Math.min(MOST_CELLS, Math.max(60, ALL_CELLS / poses.length))
  const between = all.filter((m) => u.slotOf[m.a] !== u.slotOf[m.b])
  const found = (await ctx.parallel.map(passSums, { all: between, errors, most }, poses.length, PASSES, { ...ctx, progress: () => undefined })).flat()
  for (const { slots, sum } of found) {
    const columns = 6 * slots.length
    for (let p = 0; p < columns; p++)
      for (let q = 0; q < columns; q++) out[(6 * slots[Math.floor(p / 6)] + (p % 6)) * size + 6 * slots[Math.floor(q / 6)] + (q % 6)] += sum[p * columns + q]
  }
  varianceWithoutWeak(out, size, weak)
  return out
}

/** Passes that a thread takes at a time. */
const PASSES = 4

interface PassSum {
  /** what the pass's error goes into, and its part of the covariance there */
  slots: number[]
  sum: Float64Array
}

const passSums = defineKernel('align.gradients', ({ all, errors, most }: { all: Matches[]; errors: Errors; most: number }, start: number, end: number) => {
  const out: PassSum[] = []
  for (let pass = start; pass < end; pass++) {
    const own = all.filter((m) => m.a === pass || m.b === pass)
    const slots = [...new Set(own.flatMap((m) => [errors.u.slotOf[m.a], errors.u.slotOf[m.b]]))].filter((s) => s >= 0)
    if (slots.length) out.push({ slots, sum: sumOfPass(own, pass, slots, errors, most) })
  }
  return out
})

/** most: cubes */
function sumOfPass(own: Matches[], pass: number, slots: number[], errors: Errors, most: number): Float64Array {
  const { poses, u, bound, c, radius, bias } = errors
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
  return sum
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
