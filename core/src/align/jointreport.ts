import { f32 } from '../base/arrays.ts'
import { transformPoint, type Mat4 } from '../base/mat4.ts'
import { median, quantile, robustSigma } from '../base/stats.ts'
import type { Placed, Points } from '../shape/points.ts'
import { freedoms, type Freedom } from './freedom.ts'
import { MATCH, residuals, type Matches, type Solution } from './jointsolve.ts'

export interface PairReport {
  a: number
  b: number
  count: number
  /** mean and rms gap, 99 % of |gap| as the largest credible one, mm */
  mean: number
  rms: number
  largest: number
}

export interface PassReport {
  pass: number
  count: number
  rms: number
  largest: number
  /** standard deviation of the pose at the corners of the pass, from the covariance, mm; NaN for an anchor */
  poseSigma: number
  /** how far the pass was moved, mm at its corners */
  moved: number
  /** motions of this pass that its overlap does not hold */
  free: Freedom[]
}

export interface JointResult {
  poses: Mat4[]
  pairs: PairReport[]
  passes: PassReport[]
  /** worst pass's standard deviation, mm: what the merge cell is guarded by */
  error: number
  rms: number
  largest: number
  rounds: number
  /** gaps where they were measured: 3N job coordinates, N signed mm */
  gapXyz: Float32Array
  gaps: Float32Array
  /** passes without any overlap with the anchors' side */
  apart: number[]
}

/** What an adjustment says of itself: gaps by pair and by pass, the error to be expected of each pose, motions that nothing holds. */
export function report(
  passes: Placed<Points>[],
  poses: Mat4[],
  all: Matches[],
  slotOf: number[],
  solved: Solution,
  centre: number[],
  scale: number,
  boxes: Float64Array[],
  rounds: number,
  floor: number,
): JointResult {
  const n = passes.length
  const r = residuals(all, poses, centre, scale)
  const sigma = Math.max(robustSigma(r), floor)
  const gapXyz = f32(3 * r.length)
  const gaps = f32(r.length)
  const byPair = new Map<string, { a: number; b: number; values: number[] }>()
  let k = 0
  for (const m of all)
    for (let i = 0; i < m.count; i++) {
      const v = r[k]
      const p = transformPoint(poses[m.a], m.data[MATCH * i], m.data[MATCH * i + 1], m.data[MATCH * i + 2])
      gapXyz.set(p, 3 * k)
      gaps[k] = v
      k++
      const [a, b] = m.a < m.b ? [m.a, m.b] : [m.b, m.a]
      const key = `${a},${b}`
      let e = byPair.get(key)
      if (!e) byPair.set(key, (e = { a, b, values: [] }))
      e.values.push(m.a < m.b ? v : -v)
    }
  // what is no common surface is left out by each pair's own middle and spread: two passes that do not agree must not look as if they did
  const byPass: number[][] = passes.map(() => [])
  const inside: number[] = []
  for (const e of byPair.values()) {
    const middle = median(e.values)
    const reach = 4.685 * Math.max(sigma, robustSigma(e.values.map((v) => v - middle)))
    e.values = e.values.filter((v) => Math.abs(v - middle) <= reach)
    for (const v of e.values) {
      inside.push(v)
      byPass[e.a].push(v)
      byPass[e.b].push(v)
    }
  }
  const rmsOf = (v: number[]) => Math.sqrt(v.reduce((s, x) => s + x * x, 0) / Math.max(1, v.length))
  const largestOf = (v: number[]) => quantile(v.map(Math.abs), 0.99)
  const pairs = [...byPair.values()].map(({ a, b, values }) => ({
    a,
    b,
    count: values.length,
    mean: values.reduce((s, x) => s + x, 0) / values.length,
    rms: rmsOf(values),
    largest: largestOf(values),
  }))
  // weights already count independent information only; the factor 2 below is for pairs seen from both sides
  const size = slotOf.reduce((s, v) => Math.max(s, v + 1), 0) * 6
  const apart = connectedApart(n, pairs, slotOf)
  const reports: PassReport[] = passes.map((pass, i) => {
    const s = slotOf[i]
    const own = byPass[i]
    let poseSigma = s < 0 ? Number.NaN : 0
    let free: Freedom[] = []
    if (s >= 0) {
      const b = boxes[i]
      let worst = 0
      for (let c = 0; c < 8; c++) {
        const p = transformPoint(poses[i], b[c & 1 ? 3 : 0], b[c & 2 ? 4 : 1], b[c & 4 ? 5 : 2])
        const x = (p[0] - centre[0]) / scale
        const y = (p[1] - centre[1]) / scale
        const z = (p[2] - centre[2]) / scale
        // displacement of the corner = J v, J = [-[p]x | I]
        const J = [
          [0, z, -y, 1, 0, 0],
          [-z, 0, x, 0, 1, 0],
          [y, -x, 0, 0, 0, 1],
        ]
        let variance = 0
        for (const j of J) for (let u = 0; u < 6; u++) for (let w = 0; w < 6; w++) variance += j[u] * j[w] * solved.inverse[(6 * s + u) * size + 6 * s + w]
        worst = Math.max(worst, variance)
      }
      free = freedoms(solved.own[s], solved.weight[s], scale, solved.noiseHold[s]).filter((f) => f.free)
      poseSigma = free.length ? Infinity : sigma * Math.sqrt(2 * worst)
    }
    return { pass: i, count: own.length, rms: rmsOf(own), largest: own.length ? largestOf(own) : 0, poseSigma, moved: movedBy(pass, poses[i], boxes[i]), free }
  })
  const held = reports.map((p) => p.poseSigma).filter((v) => Number.isFinite(v))
  return {
    poses,
    pairs,
    passes: reports,
    error: held.length ? Math.max(...held) : 0,
    rms: rmsOf(inside),
    largest: largestOf(inside),
    rounds,
    gapXyz,
    gaps,
    apart,
  }
}

function movedBy(pass: Placed<Points>, pose: Mat4, b: Float64Array): number {
  let worst = 0
  for (let c = 0; c < 8; c++) {
    const q = [b[c & 1 ? 3 : 0], b[c & 2 ? 4 : 1], b[c & 4 ? 5 : 2]] as const
    const p = transformPoint(pass.pose, ...q)
    const o = transformPoint(pose, ...q)
    worst = Math.max(worst, Math.hypot(p[0] - o[0], p[1] - o[1], p[2] - o[2]))
  }
  return worst
}

function connectedApart(n: number, pairs: PairReport[], slotOf: number[]): number[] {
  const group = Array.from({ length: n }, (_, i) => i)
  const find = (i: number): number => (group[i] === i ? i : (group[i] = find(group[i])))
  for (const p of pairs) group[find(p.a)] = find(p.b)
  const fixed = new Set<number>()
  for (let i = 0; i < n; i++) if (slotOf[i] < 0) fixed.add(find(i))
  return group.map((_, i) => i).filter((i) => slotOf[i] >= 0 && !fixed.has(find(i)))
}
