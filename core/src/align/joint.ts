import { f32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { fromRotationVector, invertRigid, multiply, orthonormalise, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, defineKernel, type RunContext } from '../base/run.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../base/solve.ts'
import { median, quantile, robustSigma } from '../base/stats.ts'
import { localPlane, newLocalPlane } from '../shape/localplane.ts'
import { boundingBox, boxDiagonal, type Placed, type Points } from '../shape/points.ts'
import { pointSpacing } from '../shape/spacing.ts'
import { buildRowGrid, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { freedoms, type Freedom } from './freedom.ts'
import { balanceByNormal, independentShare, OFF_CENTRE, SCALES, SOUND, surfelBuffers, surfelKernel } from './surfels.ts'

export interface JointOptions {
  /** passes that stay put; default the first */
  anchors?: number[]
  /** radius of the local planes, mm; default 4.4 point spacings */
  radius?: number
  /** surfels a pass in the last rounds, chosen by direction from CANDIDATES times as many */
  samples?: number
  /** largest gap between two passes that is still taken as the same surface, mm: first and last round */
  gateStart?: number
  gateEnd?: number
  /** passes that move together (the setup of each pass); default each on its own */
  groups?: number[]
}

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

interface MatchArgs {
  /** surfels of pass a */
  xyz: Float32Array
  normals: Float32Array
  scale: Uint8Array
  index: Int32Array
  /** a local to b local */
  toB: Mat4
  gridB: RowGrid
  radius: number
  soundB: number
  gate: number
  cos: number
}

const CANDIDATES = 7

/** For each surfel of pass a the plane of pass b at the same place, with the same radius: equal smoothing on both sides, so that curvature cancels. */
const match = defineKernel('align.match', (a: MatchArgs, start: number, end: number) => {
  const { xyz, normals, index, toB: m, gridB, radius } = a
  const runs = runsFor(gridB, radius)
  const q = newLocalPlane()
  const out = new Float64Array((end - start) * 7)
  let n = 0
  for (let s = start; s < end; s++) {
    const i = 3 * index[s]
    const x = m[0] * xyz[i] + m[1] * xyz[i + 1] + m[2] * xyz[i + 2] + m[3]
    const y = m[4] * xyz[i] + m[5] * xyz[i + 1] + m[6] * xyz[i + 2] + m[7]
    const z = m[8] * xyz[i] + m[9] * xyz[i + 1] + m[10] * xyz[i + 2] + m[11]
    const r = SCALES[a.scale[index[s]]] * radius
    localPlane(gridB, x, y, z, r, runs, q)
    if (q.count < 8 || q.breadth < 0.25 || q.sigma > a.soundB) continue
    const nx = m[0] * normals[i] + m[1] * normals[i + 1] + m[2] * normals[i + 2]
    const ny = m[4] * normals[i] + m[5] * normals[i + 1] + m[6] * normals[i + 2]
    const nz = m[8] * normals[i] + m[9] * normals[i + 1] + m[10] * normals[i + 2]
    const c = nx * q.nx + ny * q.ny + nz * q.nz
    if (Math.abs(c) < a.cos) continue
    const ox = x - q.cx
    const oy = y - q.cy
    const oz = z - q.cz
    const d = ox * q.nx + oy * q.ny + oz * q.nz
    if (Math.abs(d) > a.gate) continue
    const tx = ox - d * q.nx
    const ty = oy - d * q.ny
    const tz = oz - d * q.nz
    if (tx * tx + ty * ty + tz * tz > (OFF_CENTRE * r) ** 2) continue
    const f = c < 0 ? -1 : 1
    out[n] = index[s]
    out[n + 1] = x - d * q.nx
    out[n + 2] = y - d * q.ny
    out[n + 3] = z - d * q.nz
    out[n + 4] = f * q.nx
    out[n + 5] = f * q.ny
    out[n + 6] = f * q.nz
    n += 7
  }
  return out.slice(0, n)
})

const MATCH = 13

interface Matches {
  a: number
  b: number
  /** per match: point and normal in a local, point and normal in b local (turned to agree), weight */
  data: Float64Array
  count: number
}

/**
 * Brings all passes together at once: one Gauss-Newton over the poses of all passes but the anchors, over all
 * overlapping pairs, with a symmetric plane-to-plane error (Chen and Medioni 1991; Rusinkiewicz 2019) and Tukey's
 * weights (Beaton and Tukey 1974). Pairs are found anew in a few rounds with a narrowing gate.
 *
 * passes: points with poses good to about `gateStart`. Options in mm. Points are never rewritten: the result is poses.
 * Free motions (turned, flat, sliding parts) are reported per pass and held at their start instead of drifting.
 * Throws OakError 'no-overlap' when no pair of passes meets at all; passes that meet nobody are listed in `apart`.
 *
 * Tried on the eight-pass bracket, rms of the underside passes to truth: pass by pass 0.049 mm, plain joint 0.162,
 * soundness of the planes alone 0.0047, everything here 0.003 and better.
 */
export async function adjustJointly(passes: Placed<Points>[], options: JointOptions, ctx: RunContext): Promise<JointResult> {
  const n = passes.length
  if (n < 2) throw new OakError('one-pass', 'There is only one pass, nothing to adjust.', { remedy: 'Bring in a second pass, or go on to the merge.' })
  const groups = options.groups ?? passes.map((_, i) => i)
  const anchors = new Set((options.anchors ?? [0]).map((i) => groups[i]))
  const spacing = median(passes.map((p) => pointSpacing(p.data.xyz, 500)))
  const radius = options.radius ?? 4.4 * spacing
  const samples = options.samples ?? 8000
  const gateEnd = options.gateEnd ?? Math.max(0.3, 1.3 * spacing)
  const gateStart = Math.max(options.gateStart ?? 2.5, gateEnd)
  ctx.progress(0, 'search structures')
  const grids: RowGrid[] = []
  for (const p of passes) {
    grids.push(buildRowGrid(p.data.xyz, radius))
    checkCancelled(ctx)
  }

  // surfels, all in one go; early rounds take a sparse part of them
  const surfels = []
  for (let i = 0; i < n; i++) {
    // the noise first, from a sparse sample; then the surfels that are sound by it
    const probe = surfelBuffers(grids[i], 2000, radius)
    await ctx.parallel.map(surfelKernel, probe, probe.samples, 1024, ctx)
    const b = surfelBuffers(grids[i], CANDIDATES * samples, radius)
    const finite = Array.from(probe.sigmas).filter((s) => s < Infinity)
    const sigma = finite.length ? median(finite) : 0
    b.limit = SOUND * sigma
    await ctx.parallel.map(surfelKernel, b, b.samples, 1024, ctx)
    const index = balanceByNormal(b.normals, b.good, samples)
    const weight = independentShare(b.xyz, b.scale, index, radius)
    surfels.push({ xyz: b.xyz, normals: b.normals, scale: b.scale, weight, sigma, index })
    ctx.progress((0.2 * (i + 1)) / n, 'surface elements')
  }

  const poses: Mat4[] = passes.map((p) => Float64Array.from(p.pose))
  const boxes = passes.map((p) => boundingBox(p.data.xyz))
  const unknown = [...new Set(groups)].filter((g) => !anchors.has(g))
  const slot = new Map(unknown.map((g, i) => [g, i]))
  const slotOf = passes.map((_, i) => slot.get(groups[i]) ?? -1)
  const m = unknown.length
  const centre = jobCentre(passes, poses)
  const scale = Math.max(...boxes.map((b) => boxDiagonal(b))) / 4 || 1

  const gates: { gate: number; cos: number; share: number }[] = []
  for (let g = gateStart; g > gateEnd * 1.01; g *= 0.45) gates.push({ gate: g, cos: g > 1 ? 0.95 : 0.98, share: 0.25 })
  gates.push({ gate: Math.max(0.5, gateEnd), cos: 0.99, share: 0.5 }, { gate: gateEnd, cos: 0.99, share: 1 }, { gate: gateEnd, cos: 0.99, share: 1 })

  let all: Matches[] = []
  let solved: Solution | undefined
  for (let round = 0; round < gates.length; round++) {
    const { gate, cos, share } = gates[round]
    all = []
    for (let i = 0; i < n; i++) {
      const every = Math.round(1 / share)
      const index = every === 1 ? surfels[i].index : surfels[i].index.filter((_, k) => k % every === 0)
      for (let j = 0; j < n; j++) {
        // passes of one rigid group tell nothing about each other's place, nor do two that both stay put
        if (i === j || (m > 0 && slotOf[i] === slotOf[j])) continue
        const toB = multiply(invertRigid(poses[j]), poses[i])
        if (!boxesMeet(boxes[i], toB, boxes[j], gate + radius)) continue
        const args: MatchArgs = {
          xyz: surfels[i].xyz,
          normals: surfels[i].normals,
          scale: surfels[i].scale,
          index,
          toB,
          gridB: grids[j],
          radius,
          soundB: SOUND * surfels[j].sigma,
          gate,
          cos,
        }
        const parts = await ctx.parallel.map(match, args, index.length, 1024, ctx)
        const count = parts.reduce((s, p) => s + p.length / 7, 0)
        if (count < 20) continue
        const data = new Float64Array(count * MATCH)
        let o = 0
        for (const p of parts)
          for (let k = 0; k < p.length; k += 7) {
            const s = 3 * p[k]
            const { xyz, normals } = surfels[i]
            for (let c = 0; c < 3; c++) {
              data[o + c] = xyz[s + c]
              data[o + 3 + c] = normals[s + c]
              data[o + 6 + c] = p[k + 1 + c]
              data[o + 9 + c] = p[k + 4 + c]
            }
            data[o + 12] = surfels[i].weight[p[k]]
            o += MATCH
          }
        all.push({ a: i, b: j, data, count })
      }
    }
    if (all.length === 0)
      throw new OakError('no-overlap', 'No two passes share any surface.', {
        remedy: 'Bring the setups together by picked pairs first, or check that the passes show the same part.',
      })
    // Tukey's bound is lowered step by step (Blake and Zisserman 1987). Set at once from the residuals' spread it throws
    // out the few faces that hold a weak direction, since they alone show a gap: measured 0.034 mm off, sideways.
    const last = round === gates.length - 1
    let bound = 2 * gate
    for (let it = 0; it < (last ? 14 : 5); it++) {
      checkCancelled(ctx)
      solved = solve(all, poses, slotOf, m, centre, scale, bound)
      bound *= last ? 0.6 : 0.8
      const largestStep = applyStep(solved.step, poses, slotOf, centre, scale)
      if (largestStep < 1e-6 && bound < 1e-3) break
    }
    ctx.progress(0.2 + (0.8 * (round + 1)) / gates.length, `round ${round + 1} of ${gates.length}`)
  }
  return report(passes, poses, all, slotOf, solved as Solution, centre, scale, boxes, gates.length)
}

function jobCentre(passes: Placed<Points>[], poses: Mat4[]): [number, number, number] {
  const c: [number, number, number] = [0, 0, 0]
  passes.forEach((p, i) => {
    const b = boundingBox(p.data.xyz)
    const q = transformPoint(poses[i], (b[0] + b[3]) / 2, (b[1] + b[4]) / 2, (b[2] + b[5]) / 2)
    for (let k = 0; k < 3; k++) c[k] += q[k] / passes.length
  })
  return c
}

function boxesMeet(a: Float64Array, toB: Mat4, b: Float64Array, margin: number): boolean {
  const lo = [Infinity, Infinity, Infinity]
  const hi = [-Infinity, -Infinity, -Infinity]
  for (let c = 0; c < 8; c++) {
    const p = transformPoint(toB, a[c & 1 ? 3 : 0], a[c & 2 ? 4 : 1], a[c & 4 ? 5 : 2])
    for (let k = 0; k < 3; k++) {
      lo[k] = Math.min(lo[k], p[k])
      hi[k] = Math.max(hi[k], p[k])
    }
  }
  return [0, 1, 2].every((k) => lo[k] <= b[k + 3] + margin && hi[k] >= b[k] - margin)
}

interface Solution {
  step: Float64Array
  /** inverse of the normal matrix, for unit variance of a residual; undefined entries of free motions are left out */
  inverse: Float64Array
  hessian: Float64Array
  /** per unknown: 6x6 of its own matches, and their weight, for the freedom analysis */
  own: Float64Array[]
  weight: Float64Array
  /** per unknown: what the noise of the normals alone would hold (see freedoms) */
  noiseHold: Float64Array
  sigma: number
}

const row = new Float64Array(6)
/** of the match last evaluated: 1 - cosine between the normals of both sides */
let disagreement = 0

/** Residual, row and weight of one match at the present poses. */
function evaluate(d: Float64Array, o: number, A: Mat4, B: Mat4, centre: number[], scale: number): number {
  const ax = A[0] * d[o] + A[1] * d[o + 1] + A[2] * d[o + 2] + A[3]
  const ay = A[4] * d[o] + A[5] * d[o + 1] + A[6] * d[o + 2] + A[7]
  const az = A[8] * d[o] + A[9] * d[o + 1] + A[10] * d[o + 2] + A[11]
  const bx = B[0] * d[o + 6] + B[1] * d[o + 7] + B[2] * d[o + 8] + B[3]
  const by = B[4] * d[o + 6] + B[5] * d[o + 7] + B[6] * d[o + 8] + B[7]
  const bz = B[8] * d[o + 6] + B[9] * d[o + 7] + B[10] * d[o + 8] + B[11]
  let nx = A[0] * d[o + 3] + A[1] * d[o + 4] + A[2] * d[o + 5] + B[0] * d[o + 9] + B[1] * d[o + 10] + B[2] * d[o + 11]
  let ny = A[4] * d[o + 3] + A[5] * d[o + 4] + A[6] * d[o + 5] + B[4] * d[o + 9] + B[5] * d[o + 10] + B[6] * d[o + 11]
  let nz = A[8] * d[o + 3] + A[9] * d[o + 4] + A[10] * d[o + 5] + B[8] * d[o + 9] + B[9] * d[o + 10] + B[10] * d[o + 11]
  const l = Math.sqrt(nx * nx + ny * ny + nz * nz)
  disagreement = 2 - (l * l) / 2
  nx /= l
  ny /= l
  nz /= l
  const mx = ((ax + bx) / 2 - centre[0]) / scale
  const my = ((ay + by) / 2 - centre[1]) / scale
  const mz = ((az + bz) / 2 - centre[2]) / scale
  row[0] = my * nz - mz * ny
  row[1] = mz * nx - mx * nz
  row[2] = mx * ny - my * nx
  row[3] = nx
  row[4] = ny
  row[5] = nz
  return (ax - bx) * nx + (ay - by) * ny + (az - bz) * nz
}

function residuals(all: Matches[], poses: Mat4[], centre: number[], scale: number): Float64Array {
  const total = all.reduce((s, m) => s + m.count, 0)
  const r = new Float64Array(total)
  let k = 0
  for (const m of all) for (let i = 0; i < m.count; i++) r[k++] = evaluate(m.data, MATCH * i, poses[m.a], poses[m.b], centre, scale)
  return r
}

function solve(all: Matches[], poses: Mat4[], slotOf: number[], m: number, centre: number[], scale: number, bound: number): Solution {
  const r = residuals(all, poses, centre, scale)
  const sigma = Math.max(robustSigma(r), 1e-5)
  const c = Math.max(4.685 * sigma, bound)
  const size = 6 * m
  const h = new Float64Array(size * size)
  const g = new Float64Array(size)
  const own = Array.from({ length: m }, () => new Float64Array(36))
  const weight = new Float64Array(m)
  const noiseHold = new Float64Array(m)
  let k = 0
  for (const match of all) {
    const sa = slotOf[match.a]
    const sb = slotOf[match.b]
    const block = new Float64Array(36)
    const grad = new Float64Array(6)
    let ws = 0
    let apart = 0
    for (let i = 0; i < match.count; i++) {
      const ri = r[k++]
      if (Math.abs(ri) >= c) continue
      const u = 1 - (ri / c) ** 2
      const w = u * u * match.data[MATCH * i + 12]
      evaluate(match.data, MATCH * i, poses[match.a], poses[match.b], centre, scale)
      ws += w
      apart += w * disagreement
      for (let p = 0; p < 6; p++) {
        grad[p] += w * row[p] * ri
        for (let q = p; q < 6; q++) block[6 * p + q] += w * row[p] * row[q]
      }
    }
    for (let p = 0; p < 6; p++) for (let q = 0; q < p; q++) block[6 * p + q] = block[6 * q + p]
    if (sa === sb) continue
    for (const [s, sign] of [
      [sa, 1],
      [sb, -1],
    ] as const) {
      if (s < 0) continue
      weight[s] += ws
      noiseHold[s] += apart / 4
      for (let p = 0; p < 6; p++) {
        g[6 * s + p] += sign * grad[p]
        for (let q = 0; q < 6; q++) {
          h[(6 * s + p) * size + 6 * s + q] += block[6 * p + q]
          own[s][6 * p + q] += block[6 * p + q]
        }
      }
    }
    if (sa >= 0 && sb >= 0)
      for (let p = 0; p < 6; p++)
        for (let q = 0; q < 6; q++) {
          h[(6 * sa + p) * size + 6 * sb + q] -= block[6 * p + q]
          h[(6 * sb + p) * size + 6 * sa + q] -= block[6 * p + q]
        }
  }
  for (let s = 0; s < m; s++) noiseHold[s] /= Math.max(weight[s], 1e-300)
  // motions that nothing holds are stiffened, so that noise does not make them drift
  for (let s = 0; s < m; s++)
    for (const f of freedoms(own[s], weight[s], 1, noiseHold[s]).filter((f) => f.free)) {
      const v = [...f.rotation, ...f.translation]
      for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) h[(6 * s + p) * size + 6 * s + q] += weight[s] * v[p] * v[q]
    }
  let mean = 0
  for (let i = 0; i < size; i++) mean += h[i * size + i] / Math.max(1, size)
  for (let i = 0; i < size; i++) h[i * size + i] += 1e-7 * mean + 1e-12
  const l = cholesky(h, size)
  if (size > 0 && !l) throw new OakError('no-overlap', 'The passes do not hold each other in place.', { remedy: 'Record a pass that overlaps both sides.' })
  const step = l ? choleskySolve(l, g, size) : new Float64Array(0)
  return { step, inverse: l ? choleskyInverse(l, size) : new Float64Array(0), hessian: h, own, weight, noiseHold, sigma }
}

/** Moves the poses by -step; gives the largest movement at the part's scale, mm. */
function applyStep(step: Float64Array, poses: Mat4[], slotOf: number[], centre: number[], scale: number): number {
  let largest = 0
  for (let i = 0; i < poses.length; i++) {
    const s = slotOf[i]
    if (s < 0) continue
    const v = step.subarray(6 * s, 6 * s + 6)
    const d = fromRotationVector(-v[0] / scale, -v[1] / scale, -v[2] / scale)
    const c = transformPoint(d, centre[0], centre[1], centre[2])
    for (let k = 0; k < 3; k++) d[4 * k + 3] = centre[k] - c[k] - v[3 + k]
    poses[i] = orthonormalise(multiply(d, poses[i]))
    for (let k = 0; k < 6; k++) largest = Math.max(largest, Math.abs(v[k]))
  }
  return largest
}

function report(
  passes: Placed<Points>[],
  poses: Mat4[],
  all: Matches[],
  slotOf: number[],
  solved: Solution,
  centre: number[],
  scale: number,
  boxes: Float64Array[],
  rounds: number,
): JointResult {
  const n = passes.length
  const r = residuals(all, poses, centre, scale)
  const sigma = Math.max(robustSigma(r), 1e-5)
  const gapXyz = f32(3 * r.length)
  const gaps = f32(r.length)
  const byPair = new Map<string, { a: number; b: number; values: number[] }>()
  const byPass: number[][] = passes.map(() => [])
  let k = 0
  for (const m of all)
    for (let i = 0; i < m.count; i++) {
      const v = r[k]
      const p = transformPoint(poses[m.a], m.data[MATCH * i], m.data[MATCH * i + 1], m.data[MATCH * i + 2])
      gapXyz.set(p, 3 * k)
      gaps[k] = v
      k++
      if (Math.abs(v) > 4.685 * sigma) continue
      const [a, b] = m.a < m.b ? [m.a, m.b] : [m.b, m.a]
      const key = `${a},${b}`
      let e = byPair.get(key)
      if (!e) byPair.set(key, (e = { a, b, values: [] }))
      e.values.push(m.a < m.b ? v : -v)
      byPass[m.a].push(v)
      byPass[m.b].push(v)
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
  const inside = Array.from(gaps).filter((v) => Math.abs(v) <= 4.685 * sigma)
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
