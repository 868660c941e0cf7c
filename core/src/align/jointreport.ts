import { unionFind } from '../base/unionfind.ts'
import { f32 } from '../base/arrays.ts'
import { transformPoint, type Mat4 } from '../base/mat4.ts'
import type { RunContext } from '../base/run.ts'
import { cholesky, choleskyInverse } from '../base/solve.ts'
import { median, quantile, robustSigma } from '../base/stats.ts'
import { boundingBox } from '../shape/points.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'
import { correlationOf } from './correlation.ts'
import { freeMotions, type FreeMotion } from './freemotion.ts'
import { gradientCovariance } from './gradientcovariance.ts'
import { innerGauge, MOST_SLOTS, type InnerGauge } from './innergauge.ts'
import { assembleEquations, frameModes, setupMotion, type Adjustment, type Solved } from './adjustment.ts'
import { FEWEST_MARKERS, markerGaps, type MarkerGaps } from './commonmarkers.ts'
import { MATCH } from './match.ts'
import { gaps } from './normalequations.ts'
import { departure, deviations } from './prior.ts'
import { movementAt } from './unknowns.ts'

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
  /** standard deviation of its places (length of three coordinates, rms over the pass) against the anchor, mm; 0 for the anchor, Infinity when it is not held, or hangs on nothing */
  sigma: number
  /** how far the pass was moved, rms over its places, mm */
  moved: number
  /** how far it went from where the scanner recorded it within its setup along any axis, in standard deviations of tracking; NaN where nothing is known */
  departed: number
  /** motions that neither surface nor record holds, of this pass or of a group it belongs to */
  free: FreeMotion[]
  /** how well its pose is known against the mean of all (of very many: against the anchor), in the job */
  pose: PoseUncertainty
}

export interface JointResult {
  poses: Mat4[]
  pairs: PairReport[]
  passes: PassReport[]
  /** worst pass's standard deviation, mm: what the merge cell is guarded by. Infinity when no pass is held */
  error: number
  rms: number
  largest: number
  rounds: number
  /** gaps where they were measured: 3N job coordinates, N signed mm */
  gapXyz: Float32Array
  gaps: Float32Array
  /** passes without any overlap with the anchor's side */
  apart: number[]
  /** motions of groups of passes that nothing holds */
  free: FreeMotion[]
  /** gaps err alike over this distance, mm; 0 when they are independent */
  correlated: number
  /** markers that setups share, and how far their sightings lie from their mean, mm */
  markers: MarkerGaps & { count: number }
  /** how far each setup went as a whole: what else was recorded in it goes along */
  moves?: Map<number, Mat4>
  /** how far apart surface and markers want the setups, when that is more than scanner and lists explain, mm */
  contradiction?: number
  /** what a person should know of the markers */
  doubts?: string[]
}

/** What an adjustment says of itself: gaps by pair and by pass, the error to be expected of each pose, motions that nothing holds. */
export async function report(job: Adjustment, anchor: number, solved: Solved, rounds: number, ctx: RunContext): Promise<JointResult> {
  const { poses, passes } = job
  const { all } = solved
  const n = passes.length
  const found = gapsByPair(job, solved)
  const apart = connectedApart(n, found.pairs, anchor, job)
  // what hangs on nothing stays where it was, whatever the rounds did to it on their way
  for (const i of apart) poses[i] = Float64Array.from(passes[i].pose)
  // where setups are known, what passes of one do against each other is held by the record
  const whole = job.prior ? await frameModes(job, all, solved.bound, ctx) : { unknowns: job.unknowns, weak: solved.weak }
  const free = freeMotions(job, whole.unknowns, whole.weak, apart)
  const { covariance, full, correlated } = await poseCovariance(job, solved, ctx)
  const loose = (i: number) => apart.includes(i) || free.some((f) => f.passes.includes(i))
  const inner = full && innerGauge(job, full, loose)
  const reports = passes.map((_, i): PassReport => {
    const values = found.byPass[i]
    const held = free.filter((f) => f.passes.includes(i))
    const d = new Float64Array(6)
    let departed = Number.NaN
    if (job.prior) {
      departure(job.prior, i, poses[i], job.centres.subarray(3 * i, 3 * i + 3), job.levers[i], d)
      departed = deviations(job.prior, i, d)
    }
    return {
      pass: i,
      count: values.length,
      rms: rmsOf(values),
      largest: values.length ? largestOf(values) : 0,
      sigma: loose(i) ? Infinity : passSigma(job, i, covariance),
      moved: movedBy(job, i),
      departed,
      free: held,
      pose: poseOf(job, i, covariance, loose(i), inner),
    }
  })
  const finite = reports.filter((p) => p.pass !== anchor && Number.isFinite(p.sigma)).map((p) => p.sigma)
  const inside = found.pairs.flatMap((p) => p.values)
  const gapXyz = f32(3 * all.reduce((s, m) => s + m.count, 0))
  let k = 0
  for (const m of all)
    for (let i = 0; i < m.count; i++) gapXyz.set(transformPoint(poses[m.a], m.data[MATCH * i], m.data[MATCH * i + 1], m.data[MATCH * i + 2]), 3 * k++)
  return {
    poses,
    pairs: found.pairs.map(({ a, b, values }) => ({
      a,
      b,
      count: values.length,
      mean: values.reduce((s, x) => s + x, 0) / Math.max(1, values.length),
      rms: rmsOf(values),
      largest: largestOf(values),
    })),
    passes: reports,
    error: finite.length ? Math.max(...finite) : Infinity,
    rms: rmsOf(inside),
    largest: inside.length ? largestOf(inside) : 0,
    rounds,
    gapXyz,
    gaps: Float32Array.from(found.raw),
    apart,
    free,
    correlated,
    markers: { count: job.markers.length, ...markerGaps(job.markers, (s) => setupMotion(job, s)) },
  }
}

const rmsOf = (v: ArrayLike<number>) => {
  let s = 0
  for (let i = 0; i < v.length; i++) s += v[i] * v[i]
  return Math.sqrt(s / Math.max(1, v.length))
}
const largestOf = (v: number[]) => quantile(v.map(Math.abs), 0.99)

function gapsByPair(job: Adjustment, { all }: Solved) {
  const raw = gaps(all, job.poses)
  const byPair = new Map<number, { a: number; b: number; values: number[] }>()
  const n = job.passes.length
  let k = 0
  for (const m of all) {
    const [a, b] = m.a < m.b ? [m.a, m.b] : [m.b, m.a]
    let e = byPair.get(a * n + b)
    if (!e) byPair.set(a * n + b, (e = { a, b, values: [] }))
    for (let i = 0; i < m.count; i++, k++) e.values.push(m.a < m.b ? raw[k] : -raw[k])
  }
  const sigma = raw.length ? robustSigma(raw) : 0
  // what is no common surface is left out by each pair's own middle and spread: two passes that do not agree must not look as if they did
  const byPass: number[][] = job.passes.map(() => [])
  for (const e of byPair.values()) {
    const middle = median(e.values)
    const reach = 4.685 * Math.max(sigma, robustSigma(e.values.map((v) => v - middle)))
    e.values = e.values.filter((v) => Math.abs(v - middle) <= reach)
    for (const v of e.values) {
      byPass[e.a].push(v)
      byPass[e.b].push(v)
    }
  }
  return { raw, pairs: [...byPair.values()], byPass }
}

/** Share of the spacing that surfaces beside edges and where bends begin are found elsewhere by another pass: gaps of noiseless passes, rms (bracket, 0.4 and 0.8 mm). */
const BIAS = 0.0025

/** Covariance of each slot's six numbers (36 a slot): the sandwich of what the gaps' own correlation says, the prior as evidence beside them. */
async function poseCovariance(
  job: Adjustment,
  solved: Solved,
  ctx: RunContext,
): Promise<{ covariance: Float64Array; full: Float64Array | null; correlated: number }> {
  const u = job.unknowns
  const { h, data, size, own, weak } = await assembleEquations(job, solved.all, solved.bound, ctx)
  const lever = median(job.levers)
  const c = await correlationOf(solved.all, job.poses, job.radius, lever, ctx)
  const m = await gradientCovariance(
    solved.all,
    { poses: job.poses, u, bound: solved.bound, c, radius: job.radius, bias: { size: BIAS * job.spacing, reach: 0.3 * lever } },
    weak,
    ctx,
  )
  const l = cholesky(h, size)
  const covariance = new Float64Array(6 * own)
  const far = c.value.findLastIndex((v) => v > 0.1 * c.variance)
  const correlated = far < 0 ? 0 : c.until[far]
  if (!l) return { covariance: covariance.fill(Infinity), full: null, correlated }
  // with few passes also how their numbers go with one another
  const full = own <= 6 * MOST_SLOTS ? new Float64Array(own * own) : null
  const inverse = choleskyInverse(l, size)
  // what is not from the matches is the prior, and stands for its own covariance; most of it is zeros when there are many passes
  const starts = new Int32Array(size + 1)
  const columns: number[] = []
  const values: number[] = []
  for (let i = 0; i < size; i++) {
    for (let j = 0; j < size; j++) {
      const v = h[i * size + j] - data[i * size + j] + (i < own && j < own ? m[i * own + j] : 0)
      if (v === 0) continue
      columns.push(j)
      values.push(v)
    }
    starts[i + 1] = columns.length
  }
  const at = Int32Array.from(columns)
  const middle = Float64Array.from(values)
  const left = new Float64Array(size)
  for (let i = 0; i < own; i++) {
    left.fill(0)
    for (let k = 0; k < size; k++) {
      const f = inverse[i * size + k]
      if (f !== 0) for (let e = starts[k]; e < starts[k + 1]; e++) left[at[e]] += f * middle[e]
    }
    const block = 6 * Math.floor(i / 6)
    const [from, to] = full ? [0, own] : [block, block + 6]
    for (let j = from; j < to; j++) {
      let s = 0
      for (let k = 0; k < size; k++) s += left[k] * inverse[j * size + k]
      if (full) full[i * own + j] = s
      if (j >= block && j < block + 6) covariance[6 * i + j - block] = s
    }
  }
  return { covariance, full, correlated }
}

const PLACES = 200

/** Standard deviation of a pass's own places, by the covariance of its pose. */
function passSigma(job: Adjustment, i: number, covariance: Float64Array): number {
  const s = job.unknowns.slotOf[i]
  if (s < 0) return 0
  const { xyz, index } = job.match[i].surfels
  const step = Math.max(1, Math.floor(index.length / PLACES))
  const J = new Float64Array(18)
  let sum = 0
  let count = 0
  for (let k = 0; k < index.length; k += step, count++) {
    const p = transformPoint(job.poses[i], xyz[3 * index[k]], xyz[3 * index[k] + 1], xyz[3 * index[k] + 2])
    movementAt(job.unknowns, s, p[0], p[1], p[2], J)
    for (let r = 0; r < 3; r++) for (let a = 0; a < 6; a++) for (let b = 0; b < 6; b++) sum += J[6 * r + a] * J[6 * r + b] * covariance[36 * s + 6 * a + b]
  }
  return count ? Math.sqrt(Math.max(0, sum) / count) : Infinity
}

/** Covariance of a pass's pose as turn (rad) and shift (mm), against the mean of all passes, of very many against the anchor; of what is not held there is none. */
function poseOf(job: Adjustment, i: number, covariance: Float64Array, loose: boolean, inner: InnerGauge | null): PoseUncertainty {
  const s = job.unknowns.slotOf[i]
  const { xyz, index } = job.match[i].surfels
  const places = f32(3 * index.length)
  for (let k = 0; k < index.length; k++) places.set(transformPoint(job.poses[i], xyz[3 * index[k]], xyz[3 * index[k] + 1], xyz[3 * index[k] + 2]), 3 * k)
  const rest = { of: job.passes[i].name, box: [...boundingBox(places)] }
  if (inner) {
    const c = inner.covariance[i]
    return { ...rest, about: inner.about, covariance: c && [...c] }
  }
  if (s < 0) return { ...rest, about: [0, 0, 0], covariance: new Array<number>(36).fill(0) }
  const unit = (a: number) => (a < 3 ? 1 / job.unknowns.lever[s] : 1)
  const own = Array.from({ length: 36 }, (_, k) => covariance[36 * s + k] * unit(Math.floor(k / 6)) * unit(k % 6))
  return { ...rest, about: [...job.unknowns.centre.subarray(3 * s, 3 * s + 3)], covariance: loose || !own.every(Number.isFinite) ? null : own }
}

function movedBy(job: Adjustment, i: number): number {
  const { xyz, index } = job.match[i].surfels
  const step = Math.max(1, Math.floor(index.length / PLACES))
  let ss = 0
  let count = 0
  for (let k = 0; k < index.length; k += step, count++) {
    const at = [xyz[3 * index[k]], xyz[3 * index[k] + 1], xyz[3 * index[k] + 2]] as const
    const a = transformPoint(job.passes[i].pose, ...at)
    const b = transformPoint(job.poses[i], ...at)
    ss += (a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2 + (a[2] - b[2]) ** 2
  }
  return count ? Math.sqrt(ss / count) : 0
}

/** Passes that no chain of pairs, nor their setup's record or markers, ties to the anchor. */
function connectedApart(n: number, pairs: { a: number; b: number }[], anchor: number, job: Adjustment): number[] {
  const { find, join } = unionFind(n)
  for (const p of pairs) join(p.a, p.b)
  for (let i = 0; i < n; i++) for (let j = 0; j < i; j++) if (job.setups[i] === job.setups[j]) join(i, j)
  for (let i = 0; i < n; i++)
    for (let j = 0; j < i; j++) {
      const both = job.markers.filter((m) => m.setups.includes(job.setups[i]) && m.setups.includes(job.setups[j]))
      if (both.length >= FEWEST_MARKERS) join(i, j)
    }
  return Array.from({ length: n }, (_, i) => i).filter((i) => find(i) !== find(anchor))
}
