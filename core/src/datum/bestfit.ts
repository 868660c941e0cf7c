import { f32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { fromRotationVector, identity, invertRigid, multiply, orthonormalise, poseDifference, transformArray, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'
import { robustSigma } from '../base/stats.ts'
import { alignByShape } from '../align/coarse.ts'
import { freedoms, type Freedom } from '../align/freedom.ts'
import { deviationTo } from '../inspect/deviation.ts'
import { keepTriangles, triangleCount, triangleNormal, type Mesh } from '../shape/mesh.ts'
import { boundingBox, boxDiagonal, type Placed, type Points } from '../shape/points.ts'
import { sampleMesh } from '../shape/sample.ts'
import { prepareSignedDistance, type SignedDistance } from '../space/signed.ts'

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
  rms: number
  mean: number
  used: number
  total: number
  free: Freedom[]
  /** the shape did not decide which way round */
  ambiguous: boolean
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
  const source = measured.data.kind === 'mesh' ? sampleMesh(measured.data, samples) : measured.data
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
  return { pose: multiply(nominal.pose, settled.pose), rms: settled.rms, mean: settled.mean, used: settled.used, free: settled.free, total: take, ambiguous }
}

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

async function settle(start: Mat4, widest: number, rounds: number, f: Fitting, ctx: RunContext) {
  const { own, prepared, target, scale, centre } = f
  const take = own.length / 3
  let pose = start
  let reach = widest
  let result: { rms: number; mean: number; used: number; free: Freedom[] } = { rms: 0, mean: 0, used: 0, free: [] }
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
    const c = !f.robust ? Infinity : Math.max(4.685 * sigma, 1e-5)
    const h = new Float64Array(36)
    const g = new Float64Array(6)
    const row = new Float64Array(6)
    let weight = 0
    let ss = 0
    let s = 0
    let used = 0
    for (let i = 0; i < take; i++) {
      const r = d.values[i]
      if (Number.isNaN(r) || d.beyond[i] || Math.abs(r) >= c) continue
      const u = r / c
      const w = (1 - u * u) ** 2
      const nrm = triangleNormal(target.vertices, target.triangles, d.triangle[i])
      const x = (placed[3 * i] - centre[0]) / scale,
        y = (placed[3 * i + 1] - centre[1]) / scale,
        z = (placed[3 * i + 2] - centre[2]) / scale
      row[0] = y * nrm[2] - z * nrm[1]
      row[1] = z * nrm[0] - x * nrm[2]
      row[2] = x * nrm[1] - y * nrm[0]
      row[3] = nrm[0]
      row[4] = nrm[1]
      row[5] = nrm[2]
      weight += w
      ss += w * r * r
      s += w * r
      used++
      for (let p = 0; p < 6; p++) {
        g[p] += w * row[p] * r
        for (let q = 0; q < 6; q++) h[6 * p + q] += w * row[p] * row[q]
      }
    }
    const free = freedoms(h, weight, 1).filter((f) => f.free)
    result = { rms: Math.sqrt(ss / weight), mean: s / weight, used, free }
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
