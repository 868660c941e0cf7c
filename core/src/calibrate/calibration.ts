import { OakError } from '../base/errors.ts'
import { identity, invertRigid, multiply, rotationAngleDeg, type Mat4 } from '../base/mat4.ts'
import { median } from '../base/stats.ts'
import { bundleAdjust, plateNormal, type BundleResult, type BundleState, type PlateView } from './bundle.ts'
import { baselineOf, cameraFromArray, CAMERA_NUMBERS, type Camera, type Stereo } from './camera.ts'
import { centreBias } from './centrebias.ts'
import { closedForm, planePose } from './closedform.ts'
import { cover, coveredShare, emptyCoverage, type Coverage } from './coverage.ts'
import { homography } from './homography.ts'
import { dotDiameters, platePoints, type Plate, plateScaleUncertainty } from './plate.ts'

/** What both cameras saw of the plate in one pose: dot numbers and their centres, 2N px. Plain arrays: they are stored. */
export interface StereoObservation {
  left: { ids: number[]; pixels: number[] }
  right: { ids: number[]; pixels: number[] }
  /** °C of the plate */
  celsius: number
}

export interface CalibrationInput {
  plate: Plate
  observations: StereoObservation[]
  width: number
  height: number
}

export interface Field {
  columns: number
  rows: number
  /** by cell: mean of projected minus seen, u and v, px; number of dots */
  u: number[]
  v: number[]
  counts: number[]
}

export interface CalibrationResult {
  stereo: { left: Camera; right: Camera; pose: number[] }
  /** standard uncertainty of each camera number, of the baseline (mm; with that of the plate) and of the turn between the cameras (degrees) */
  uncertainty: { left: Record<string, number>; right: Record<string, number>; baseline: number; angle: number }
  baseline: number
  angle: number
  /** reprojection error, px: root mean square, mean and largest of the distances */
  rms: number
  mean: number
  largest: number
  /** by pose: rms px, left out, and the pose of the plate in the left camera */
  poses: { rms: number; out: boolean; pose: number[] }[]
  field: { left: Field; right: Field }
  coverage: { left: Coverage; right: Coverage }
  covered: number
  dots: number
  /** single dots that did not fit */
  leftOut: number
  /** angle between the two plate directions that differ most, degrees; nearest and farthest plate, mm */
  tiltRange: number
  nearest: number
  farthest: number
  iterations: number
}

export const LEAST_POSES = 6
/** relative standard uncertainty of the focal length beyond which it counts as not determined */
const FOCAL_LIMIT = 0.003
/** degrees between the poses that differ most; below it all count as one tilt */
const LEAST_TILT = 8

/**
 * Calibrates a pair of cameras from plate observations: closed form, joint bundle adjustment with robust loss, dots moved from
 * the centre of their image to the image of their centre (twice, as the bias depends on the solution), poses that do not fit named and left out.
 * Throws: 'too-few-poses', 'poses-flat' (all of one tilt: the focal length is not determined), 'poses-alike'.
 */
export function calibrateStereo(input: CalibrationInput): CalibrationResult {
  const { observations, width, height } = input
  if (observations.length < LEAST_POSES)
    throw new OakError('too-few-poses', `${observations.length} poses are too few to calibrate.`, { remedy: `Take at least ${LEAST_POSES}, better 15.` })
  // single dots that do not fit (half hidden, a scratch) go out of these; the stored observations stay as they are
  const observed = observations.map((o) => ({ ...o, left: { ...o.left }, right: { ...o.right } }))
  const views = observed.map((o) => viewOf(input.plate, o))
  const dropped = { count: 0 }
  const start = startOf(views, width, height)
  const poses = start.poses
  const out = new Set<number>()
  let { cameras, rig } = start
  let moved = views
  for (let round = 0; ; round++) {
    const kept = views.map((_, i) => i).filter((i) => !out.has(i))
    const result = solve(
      kept.map((i) => moved[i]),
      { cameras, rig, poses: kept.map((i) => poses[i]) },
    )
    ;({ cameras, rig } = result)
    kept.forEach((i, k) => (poses[i] = result.poses[k]))
    const limit = 6 * Math.max(0.004, result.sigma)
    kept.forEach((i, k) => dropStrays(views[i], observed[i], result.residuals[k], limit, dropped))
    moved = views.map((v, i) => withoutBias(v, observed[i], input.plate, result, poses[i]))
    if (round < 1) continue
    const worst = worstPose(result)
    // at most a third may go: beyond that it is not the poses that are wrong
    const mayGo = worst !== undefined && out.size + 1 <= views.length / 3 && kept.length > LEAST_POSES
    if (mayGo) out.add(kept[worst])
    else if (round >= 2) return report({ ...input, observations: observed }, result, kept, poses, dropped.count)
  }

  function solve(v: PlateView[], from: BundleState): BundleResult {
    try {
      return bundleAdjust(v, from)
    } catch (e) {
      if (e instanceof OakError && e.code === 'not-determined') throw undetermined(from.poses)
      throw e
    }
  }
}

/** Takes dots beyond the limit (px) out of a view and its observation. At most a tenth of a sighting: more is not the dots' fault. */
function dropStrays(view: PlateView, o: StereoObservation, residuals: (Float64Array | null)[], limit: number, dropped: { count: number }): void {
  view.forEach((s, k) => {
    const r = residuals[k]
    if (!s || !r || r.length !== s.pixels.length) return
    const side = k === 0 ? o.left : o.right
    const keep = side.ids.map((_, i) => i).filter((i) => Math.hypot(r[2 * i], r[2 * i + 1]) <= limit)
    const gone = side.ids.length - keep.length
    if (gone === 0 || gone > 0.1 * side.ids.length) return
    dropped.count += gone
    s.points = Float64Array.from(keep.flatMap((i) => Array.from(s.points.subarray(3 * i, 3 * i + 3))))
    s.pixels = Float64Array.from(keep.flatMap((i) => [s.pixels[2 * i], s.pixels[2 * i + 1]]))
    side.pixels = keep.flatMap((i) => [side.pixels[2 * i], side.pixels[2 * i + 1]])
    side.ids = keep.map((i) => side.ids[i])
  })
}

function viewOf(plate: Plate, o: StereoObservation): PlateView {
  const all = platePoints(plate, o.celsius)
  return [o.left, o.right].map(({ ids, pixels }) => {
    const points = new Float64Array(3 * ids.length)
    ids.forEach((id, i) => points.set(all.subarray(3 * id, 3 * id + 3), 3 * i))
    return { points, pixels: Float64Array.from(pixels) }
  })
}

function startOf(views: PlateView[], width: number, height: number): BundleState {
  const cameras = [0, 1].map((k) => {
    const maps = views.map((v) => {
      const s = v[k]!
      const flat = new Float64Array((s.points.length / 3) * 2)
      for (let i = 0; i < flat.length / 2; i++) {
        flat[2 * i] = s.points[3 * i]
        flat[2 * i + 1] = s.points[3 * i + 1]
      }
      return homography(flat, s.pixels)
    })
    const good = maps.filter((m) => m !== undefined)
    const camera = good.length >= 3 ? closedForm(good, width, height) : undefined
    if (!camera) throw undetermined([])
    return camera
  })
  const poses = [0, 1].map((k) => views.map((v) => planePose(cameras[k], v[k]!.points, v[k]!.pixels)))
  const pairs = views.map((_, i) => (poses[0][i] && poses[1][i] ? multiply(poses[1][i], invertRigid(poses[0][i])) : undefined))
  // the relative pose nearest to all others: one wrong view does not start the rest wrongly
  let rig: Mat4 | undefined
  let least = Infinity
  for (const a of pairs) {
    if (!a) continue
    const d = median(
      pairs.filter((b) => b !== undefined).map((b) => Math.hypot(a[3] - b[3], a[7] - b[7], a[11] - b[11]) + 5 * rotationAngleDeg(multiply(invertRigid(a), b))),
    )
    if (d < least) {
      least = d
      rig = a
    }
  }
  if (!rig) throw undetermined([])
  return { cameras, rig: [identity(), rig], poses: poses[0].map((p, i) => p ?? (poses[1][i] ? multiply(invertRigid(rig), poses[1][i]) : identity())) }
}

function withoutBias(view: PlateView, o: StereoObservation, plate: Plate, r: BundleResult, pose: Mat4): PlateView {
  if (plate.pattern !== 'dots') return view
  const diameters = dotDiameters(plate)
  const bias = new Float64Array(2)
  return view.map((s, k) => {
    if (!s) return null
    const ids = k === 0 ? o.left.ids : o.right.ids
    const seen = Float64Array.from(k === 0 ? o.left.pixels : o.right.pixels)
    const toCamera = multiply(r.rig[k], pose)
    for (let i = 0; i < ids.length; i++) {
      centreBias(r.cameras[k], toCamera, s.points[3 * i], s.points[3 * i + 1], s.points[3 * i + 2], diameters[ids[i]] / 2, bias)
      seen[2 * i] -= bias[0]
      seen[2 * i + 1] -= bias[1]
    }
    return { points: s.points, pixels: seen }
  })
}

const viewRms = (residuals: (Float64Array | null)[]): number => {
  let s = 0
  let n = 0
  for (const r of residuals)
    if (r) {
      for (let i = 0; i < r.length; i++) s += r[i] * r[i]
      n += r.length / 2
    }
  return Math.sqrt(s / Math.max(1, n))
}

/** The pose that fits least, when it is far beyond the others. */
function worstPose(r: BundleResult): number | undefined {
  const rms = r.residuals.map(viewRms)
  const usual = median(rms)
  let worst = 0
  rms.forEach((v, i) => {
    if (v > rms[worst]) worst = i
  })
  return rms[worst] > Math.max(3 * usual, 0.05) ? worst : undefined
}

/** Largest angle between the plate's directions, degrees. */
export function tiltRange(poses: ArrayLike<number>[]): number {
  let most = 0
  const n = poses.map(plateNormal)
  for (let i = 0; i < n.length; i++)
    for (let j = 0; j < i; j++) {
      const d = n[i][0] * n[j][0] + n[i][1] * n[j][1] + n[i][2] * n[j][2]
      most = Math.max(most, (Math.acos(Math.min(1, Math.max(-1, d))) * 180) / Math.PI)
    }
  return most
}

function undetermined(poses: ArrayLike<number>[]): OakError {
  if (poses.length && tiltRange(poses) > 15) return alike()
  return new OakError('poses-flat', 'All poses have the same tilt: the focal length is not determined.', {
    where: poses.length ? `largest angle between two poses ${tiltRange(poses).toFixed(1)} degrees` : '',
    remedy: 'Tilt the plate by 20 to 40 degrees, to all four sides.',
  })
}

const alike = () =>
  new OakError('poses-alike', 'The poses are too alike: the cameras are not determined by them.', {
    remedy: 'Take poses near and far, tilted to all sides, and in the corners of the image.',
  })

/** Farthest over nearest distance. */
const depthRange = (poses: ArrayLike<number>[]) => Math.max(...poses.map((p) => p[11])) / Math.min(...poses.map((p) => p[11]))

function report(input: CalibrationInput, r: BundleResult, kept: number[], poses: Mat4[], leftOut: number): CalibrationResult {
  const { width, height } = input
  const g = r.unknowns.length
  const sd = (i: number) => Math.sqrt(Math.max(0, r.covariance[i * g + i]))
  // one tilt from one place fits itself whatever the cameras are: a small residual says nothing then
  const used = kept.map((i) => poses[i])
  if (tiltRange(used) < LEAST_TILT && depthRange(used) < 1.1) throw alike()
  if (r.cameras.some((c, k) => sd(9 * k) / c[0] > FOCAL_LIMIT || sd(9 * k + 1) / c[1] > FOCAL_LIMIT)) throw undetermined(used)
  const [left, right] = r.cameras.map((c) => cameraFromArray(c, width, height))
  const baseline = baselineOf(r.rig[1])
  // uncertainty of the length of the shift: along its direction
  const t = [r.rig[1][3] / baseline, r.rig[1][7] / baseline, r.rig[1][11] / baseline]
  let vb = 0
  let va = 0
  for (let a = 0; a < 3; a++)
    for (let b = 0; b < 3; b++) {
      vb += t[a] * t[b] * r.covariance[(21 + a) * g + 21 + b]
      if (a === b) va += r.covariance[(18 + a) * g + 18 + a]
    }
  const fields = [emptyField(), emptyField()]
  const coverage = [emptyCoverage(), emptyCoverage()]
  let [n, mean, largest] = [0, 0, 0]
  r.residuals.forEach((view, v) =>
    view.forEach((res, k) => {
      if (!res) return
      const seen = Float64Array.from(k === 0 ? input.observations[kept[v]].left.pixels : input.observations[kept[v]].right.pixels)
      cover(coverage[k], seen, width, height)
      addToField(fields[k], seen, res, width, height)
      for (let i = 0; i < res.length; i += 2) {
        const e = Math.hypot(res[i], res[i + 1])
        n++
        mean += e
        largest = Math.max(largest, e)
      }
    }),
  )
  const depths = kept.map((i) => poses[i][11])
  const at = new Map(kept.map((i, k) => [i, k]))
  const named = (k: number) => Object.fromEntries(CAMERA_NUMBERS.map((name, i) => [name, sd(9 * k + i)]))
  return {
    stereo: { left, right, pose: Array.from(r.rig[1]) },
    uncertainty: {
      left: named(0),
      right: named(1),
      baseline: Math.hypot(Math.sqrt(Math.max(0, vb)), baseline * plateScaleUncertainty(input.plate)),
      angle: (Math.sqrt(va) * 180) / Math.PI,
    },
    baseline,
    angle: rotationAngleDeg(r.rig[1]),
    rms: r.rms,
    mean: mean / n,
    largest,
    poses: poses.map((pose, i) => {
      const k = at.get(i)
      return { rms: k === undefined ? leftOutRms(input, r, pose, i) : viewRms(r.residuals[k]), out: k === undefined, pose: Array.from(pose) }
    }),
    field: { left: finishField(fields[0]), right: finishField(fields[1]) },
    coverage: { left: coverage[0], right: coverage[1] },
    covered: Math.min(coveredShare(coverage[0]), coveredShare(coverage[1])),
    dots: n,
    leftOut,
    tiltRange: tiltRange(kept.map((i) => poses[i])),
    nearest: Math.min(...depths),
    farthest: Math.max(...depths),
    iterations: r.iterations,
  }
}

/** How badly a pose fits that had no say. */
function leftOutRms(input: CalibrationInput, r: BundleResult, pose: Mat4, i: number): number {
  const view = withoutBias(viewOf(input.plate, input.observations[i]), input.observations[i], input.plate, r, pose)
  return viewRms(bundleAdjust([view], { cameras: r.cameras, rig: r.rig, poses: [pose] }, { holdAll: true }).residuals[0])
}

const emptyField = (columns = 16, rows = 12): Field => ({
  columns,
  rows,
  u: Array.from({ length: columns * rows }, () => 0),
  v: Array.from({ length: columns * rows }, () => 0),
  counts: Array.from({ length: columns * rows }, () => 0),
})

function addToField(f: Field, pixels: Float64Array, residuals: Float64Array, width: number, height: number): void {
  for (let i = 0; i < residuals.length; i += 2) {
    const x = Math.min(f.columns - 1, Math.max(0, Math.floor((pixels[i] / width) * f.columns)))
    const y = Math.min(f.rows - 1, Math.max(0, Math.floor((pixels[i + 1] / height) * f.rows)))
    const at = y * f.columns + x
    f.u[at] += residuals[i]
    f.v[at] += residuals[i + 1]
    f.counts[at]++
  }
}

const finishField = (f: Field): Field => ({
  ...f,
  u: f.u.map((v, i) => (f.counts[i] ? v / f.counts[i] : 0)),
  v: f.v.map((v, i) => (f.counts[i] ? v / f.counts[i] : 0)),
})

/** The stereo pair of a stored result. */
export const stereoOf = (r: Pick<CalibrationResult, 'stereo'>): Stereo => r.stereo
