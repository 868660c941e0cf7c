import { f32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import {
  fromRotationVector,
  identity,
  invertRigid,
  multiply,
  orthonormalise,
  poseDifference,
  rotateVector,
  transformArray,
  transformPoint,
  type Mat4,
} from '../base/mat4.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { cholesky, choleskyInverse, choleskySolve, product6 } from '../base/solve.ts'
import { robustSigma } from '../base/stats.ts'
import { alignByShape } from '../align/coarse.ts'
import { motionsIn, type Motion } from '../align/freemotion.ts'
import { freedoms, type Freedom } from '../align/freedom.ts'
import { deviationTo, type Deviation } from '../inspect/deviation.ts'
import { keepTriangles, triangleCount, triangleNormal, type Mesh } from '../shape/mesh.ts'
import { boundingBox, boxDiagonal, type Placed, type Points } from '../shape/points.ts'
import { sampleMesh } from '../shape/sample.ts'
import { prepareSignedDistance, type SignedDistance } from '../space/signed.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'

export interface BestFitOptions {
  /** faces of the nominal that count; all when empty or left out */
  faces?: number[]
  /** bring both together by shape first; else the present pose is taken as nearly right */
  byShape?: boolean
  /** measured points used at the most */
  samples?: number
  /** leave out what deviates more than the rest, so that a defect does not pull the fit; else plain least squares */
  robust?: boolean
  /** surface further away than this takes no part, mm; default 5 % of the part */
  reach?: number
}

export interface BestFitResult {
  pose: Mat4
  /** of the distances that count, each as much as any other, mm */
  rms: number
  mean: number
  used: number
  total: number
  /** motions that the chosen faces do not hold, in the job */
  free: Motion[]
  /** the shape did not decide which way round */
  ambiguous: boolean
  /** how well the pose is known, in the nominal's coordinates */
  placing: PoseUncertainty
}

/**
 * Pose of the measured surface on its nominal that makes the distances least: exact closest points, point-to-plane
 * Gauss-Newton (Chen and Medioni 1991) until the pose stands still. Robust by Tukey's weights with a scale that narrows.
 * measured: mesh or points with a pose; nominal likewise. Result pose: measured's own coordinates to the job's.
 * Throws OakError 'no-contact' when too little lies within reach. Free motions (round parts) are told, and left at their start.
 */
export async function bestFit(measured: Placed<Points | Mesh>, nominal: Placed<Mesh>, options: BestFitOptions, ctx: RunContext): Promise<BestFitResult> {
  const target = chosenFaces(nominal.data, options.faces)
  const samples = options.samples ?? 40_000
  // what was filled is not measured, and has no say
  const source = measured.data.kind === 'mesh' ? sampleMesh(measuredOnly(measured.data), samples) : measured.data
  const toNominal = invertRigid(nominal.pose)
  let pose: Mat4 = multiply(toNominal, measured.pose)
  let candidates: Mat4[] = [pose]
  let ambiguous = false
  if (options.byShape) {
    const whole = sampleMesh(nominal.data, 40_000)
    const found = await alignByShape(
      [{ name: nominal.name, data: whole, pose: identity() }],
      [{ name: measured.name, data: source, pose: identity() }],
      {},
      subProgress(ctx, 0, 0.5, 'by shape'),
    )
    candidates = [found.pose, ...found.others]
  }
  const n = source.xyz.length / 3
  const take = Math.min(n, samples)
  const own = f32(3 * take)
  for (let i = 0; i < take; i++) own.set(source.xyz.subarray(3 * Math.floor((i * n) / take), 3 * Math.floor((i * n) / take) + 3), 3 * i)
  const prepared = prepareSignedDistance(target)
  const scale = boxDiagonal(boundingBox(target.vertices)) / 4
  const box = boundingBox(target.vertices)
  const centre = [0, 1, 2].map((k) => (box[k] + box[k + 3]) / 2)
  const widest = options.reach ?? 0.2 * scale
  const context: Fitting = { own, prepared, target, scale, centre, robust: options.robust !== false }
  if (candidates.length > 1) {
    // exact distances tell poses apart that look alike to thinned clouds, such as a half turn of a plate; few places are enough for that
    const few = { ...context, own: everyNth(own, Math.ceil(take / 3000)) }
    const limit = 0.02 * scale
    const tried: { pose: Mat4; misfit: number }[] = []
    for (const c of candidates) {
      try {
        const p = (await settle(c, widest, 12, few, ctx)).pose
        tried.push({ pose: p, misfit: await misfit(p, limit, few, ctx) })
      } catch (e) {
        if (!(e instanceof OakError) || e.code !== 'no-contact') throw e
      }
    }
    tried.sort((x, y) => x.misfit - y.misfit)
    const [best] = tried
    if (best) {
      pose = best.pose
      // candidates that settled onto the same pose are no rivals
      const ownBox = boundingBox(own)
      const rival = tried.find((t) => poseDifference(t.pose, best.pose, ownBox).max > 0.1 * scale)
      ambiguous = rival !== undefined && rival.misfit < 1.15 * best.misfit
    }
  } else pose = candidates[0]
  const settled = await settle(pose, widest, 60, context, subProgress(ctx, 0.5, 1, 'fitting'))
  const { rms, mean, used } = settled
  const placing = placingOf(settled, context, measured.name, nominal.pose)
  const reachOf = 2 * scale
  const columns = (placing.free ?? []).map((v) => [...v.slice(0, 3).map((w) => w * reachOf), ...v.slice(3)])
  return {
    pose: multiply(nominal.pose, settled.pose),
    rms,
    mean,
    used,
    free: columns.length ? motionsIn(columns, [...placing.about], reachOf) : [],
    total: take,
    ambiguous,
    placing,
  }
}

function measuredOnly(mesh: Mesh): Mesh {
  if (!mesh.unmeasured?.some((v) => v === 1)) return mesh
  const keep = mesh.unmeasured.map((v) => (v ? 0 : 1))
  return keep.some((v) => v === 1) ? keepTriangles(mesh, keep) : mesh
}

/** Parts of the nominal's size from corner to corner, within which distances may err alike. */
const CLUSTERS = 8

/**
 * Covariance of the pose from how the distances go together: gradients summed over blocks of space, so that what errs alike within
 * a block counts once (Liang and Zeger 1986; the same by space in Conley 1999), between inverses of the curvature of the
 * loss. What the part itself deviates counts as error too: careful where a part is bent.
 */
function placingOf(s: Settled, f: Fitting, of: string, pose: ArrayLike<number>): PoseUncertainty {
  const blocks = new Map<string, Float64Array>()
  const h = new Float64Array(36)
  const size = (4 * f.scale) / CLUSTERS
  for (const { row, r, at } of s.rows()) {
    const w = tukey(r, s.limit)
    const curve = Number.isFinite(s.limit) ? (1 - (r / s.limit) ** 2) * (1 - 5 * (r / s.limit) ** 2) : 1
    const key = at.map((v) => Math.floor(v / size)).join()
    let g = blocks.get(key)
    if (!g) blocks.set(key, (g = new Float64Array(6)))
    for (let p = 0; p < 6; p++) {
      g[p] += w * r * row[p]
      for (let q = 0; q < 6; q++) h[6 * p + q] += curve * row[p] * row[q]
    }
  }
  const weight = h[21] + h[28] + h[35]
  const meat = new Float64Array(36)
  for (const g of blocks.values()) for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) meat[6 * p + q] += g[p] * g[q]
  const free = s.free.map((m) => [...m.rotation, ...m.translation])
  for (const v of free) for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) h[6 * p + q] += weight * v[p] * v[q]
  const held = 6 - free.length
  const l = blocks.size > held ? cholesky(h, 6) : undefined
  // from the numbers of the fit (turn as movement at `scale`) to radians; turned into the job with the nominal
  const unit = (v: readonly number[]) => [...rotateVector(pose, v[0] / f.scale, v[1] / f.scale, v[2] / f.scale), ...rotateVector(pose, v[3], v[4], v[5])]
  const about = transformPoint(pose, f.centre[0], f.centre[1], f.centre[2])
  const named = free.length ? { free: free.map(unit) } : {}
  if (!l) return { of, about, covariance: null, ...named }
  const inverse = choleskyInverse(l, 6)
  const few = blocks.size / (blocks.size - held)
  const own = product6(product6(inverse, meat), inverse).map((v) => few * v)
  // columns, then rows, through the same change of numbers
  const half = Array.from({ length: 6 }, (_, q) => unit(Array.from({ length: 6 }, (_, p) => own[6 * p + q])))
  const covariance = new Array<number>(36)
  for (let p = 0; p < 6; p++) unit(half.map((c) => c[p])).forEach((v, q) => (covariance[6 * p + q] = v))
  return { of, about, covariance, ...named }
}

const tukey = (r: number, c: number) => (1 - (r / c) ** 2) ** 2

function everyNth(xyz: Float32Array, step: number): Float32Array {
  const n = Math.floor(xyz.length / 3 / step)
  const out = f32(3 * n)
  for (let i = 0; i < n; i++) out.set(xyz.subarray(3 * i * step, 3 * i * step + 3), 3 * i)
  return out
}

interface Fitting {
  own: Float32Array
  prepared: SignedDistance
  target: Mesh
  scale: number
  centre: number[]
  robust: boolean
}

/** Mean distance to the target, each counted up to `limit`: low only where (nearly) everything fits. */
async function misfit(pose: Mat4, limit: number, f: Fitting, ctx: RunContext): Promise<number> {
  const placed = transformArray(pose, f.own, f32(f.own.length))
  const d = await deviationTo(f.prepared, placed, 4 * limit, { ...ctx, progress: () => undefined })
  let s = 0
  for (let i = 0; i < d.values.length; i++) s += Number.isNaN(d.values[i]) || d.beyond[i] ? limit : Math.min(limit, Math.abs(d.values[i]))
  return s / d.values.length
}

/** One distance that counts: its row of derivatives (turn as movement at `scale`, shift), the distance (mm), where. */
interface Counted {
  row: Float64Array
  r: number
  at: number[]
}

interface Settled {
  pose: Mat4
  rms: number
  mean: number
  used: number
  free: Freedom[]
  /** distances from here on do not count, mm */
  limit: number
  /** the distances that count at the end */
  rows(): Iterable<Counted>
}

async function settle(start: Mat4, widest: number, rounds: number, f: Fitting, ctx: RunContext): Promise<Settled> {
  const { own, prepared, scale, centre } = f
  const take = own.length / 3
  let pose = start
  let reach = widest
  let result: Omit<Settled, 'pose'> = { rms: 0, mean: 0, used: 0, free: [], limit: Infinity, rows: () => [] }
  const placed = f32(own.length)
  for (let round = 0; round < rounds; round++) {
    checkCancelled(ctx)
    transformArray(pose, own, placed)
    const d = await deviationTo(prepared, placed, reach, { ...ctx, progress: () => undefined })
    const residual: number[] = []
    for (let i = 0; i < take; i++) if (!Number.isNaN(d.values[i]) && !d.beyond[i]) residual.push(d.values[i])
    if (residual.length < Math.max(10, 0.01 * take))
      throw new OakError('no-contact', `Only ${residual.length} of ${take} measured places lie within ${reach.toPrecision(2)} mm of the chosen faces.`, {
        remedy: 'Bring both together by shape first, or choose more faces.',
      })
    const sigma = Math.max(robustSigma(residual), 1e-6)
    const limit = !f.robust ? Infinity : Math.max(4.685 * sigma, 1e-5)
    const rows = () => counted(d, placed, limit, f)
    const h = new Float64Array(36)
    const g = new Float64Array(6)
    let weight = 0
    let [ss, s, used] = [0, 0, 0]
    for (const { row, r } of rows()) {
      const w = tukey(r, limit)
      weight += w
      ss += r * r
      s += r
      used++
      for (let p = 0; p < 6; p++) {
        g[p] += w * row[p] * r
        for (let q = 0; q < 6; q++) h[6 * p + q] += w * row[p] * row[q]
      }
    }
    const free = freedoms(h, weight, 1).filter((f) => f.free)
    result = { rms: Math.sqrt(ss / used), mean: s / used, used, free, limit, rows }
    // a motion that nothing holds is not moved at all
    const hold = new Float64Array(h)
    for (const f of free) {
      const v = [...f.rotation, ...f.translation]
      for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) hold[6 * p + q] += weight * v[p] * v[q]
    }
    for (let p = 0; p < 6; p++) hold[7 * p] += 1e-9 * weight
    const l = cholesky(hold, 6)
    if (!l) break
    const step = choleskySolve(l, g, 6)
    const m = fromRotationVector(-step[0] / scale, -step[1] / scale, -step[2] / scale)
    const moved = transformPoint(m, centre[0], centre[1], centre[2])
    for (let k = 0; k < 3; k++) m[4 * k + 3] = centre[k] - moved[k] - step[3 + k]
    pose = orthonormalise(multiply(m, pose))
    reach = Math.max(0.01 * 4 * scale, 0.7 * reach, 6 * sigma)
    ctx.progress(round / rounds)
    if (Math.max(...step.map(Math.abs)) < 1e-7 && round > 3) break
  }
  return { pose, ...result }
}

/** The distances that count. One object and one row serve for all of them. */
function* counted(d: Deviation, placed: Float32Array, limit: number, { target, centre, scale }: Fitting): Iterable<Counted> {
  const row = new Float64Array(6)
  const out: Counted = { row, r: 0, at: [0, 0, 0] }
  for (let i = 0; i < d.values.length; i++) {
    const r = d.values[i]
    if (Number.isNaN(r) || d.beyond[i] || Math.abs(r) >= limit) continue
    const n = triangleNormal(target.vertices, target.triangles, d.triangle[i])
    for (let k = 0; k < 3; k++) out.at[k] = placed[3 * i + k] - centre[k]
    const [x, y, z] = [out.at[0] / scale, out.at[1] / scale, out.at[2] / scale]
    row[0] = y * n[2] - z * n[1]
    row[1] = z * n[0] - x * n[2]
    row[2] = x * n[1] - y * n[0]
    row[3] = n[0]
    row[4] = n[1]
    row[5] = n[2]
    out.r = r
    yield out
  }
}

function chosenFaces(mesh: Mesh, faces: number[] | undefined): Mesh {
  if (!faces || faces.length === 0) return mesh
  if (!mesh.faces)
    throw new OakError('no-faces', 'The nominal has no separate faces to choose from.', { remedy: 'Use a STEP file as nominal, or fit to the whole.' })
  const wanted = new Set(faces)
  const keep = u8(triangleCount(mesh))
  let n = 0
  for (let i = 0; i < keep.length; i++) if (wanted.has(mesh.faces[i])) n += keep[i] = 1
  if (n === 0) throw new OakError('no-faces', 'None of the chosen faces exists in the nominal.', { remedy: 'Choose the faces again.' })
  return keepTriangles(mesh, keep)
}
