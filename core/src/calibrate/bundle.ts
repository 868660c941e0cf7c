import { fromRotationVector, multiply, orthonormalise, rotateVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../base/solve.ts'
import { OakError } from '../base/errors.ts'
import { robustSigma } from '../base/stats.ts'
import { CAMERA_NUMBERS } from './camera.ts'
import { POSE, scatter, sightingNormal, type BundleState, type Layout, type Normal, type PlateView } from './sightings.ts'

export type { BundleState, PlateView, Sighting } from './sightings.ts'

export interface BundleOptions {
  /** which of the nine numbers may change; default all. The rest keep the value of the start */
  free?: readonly boolean[]
  /** cameras stay as they are: only the rig and the plate poses are solved. Default false */
  holdCameras?: boolean
  /** cameras and rig stay: only plate poses */
  holdAll?: boolean
  /** 'none': plain least squares. 'huber' (default): residuals beyond 2.5 robust sigma pull with constant force (Huber 1964) */
  loss?: 'none' | 'huber'
  iterations?: number
}

export interface BundleResult extends BundleState {
  /** root of the mean of squared distances between seen and projected, px, a point (not a coordinate) */
  rms: number
  /** by view and camera: u, v of projected minus seen, 2N px */
  residuals: (Float64Array | null)[][]
  /** standard deviation of a pixel coordinate, from the residuals and the freedoms left */
  sigma: number
  /** covariance of the shared unknowns that were free, in the order of `unknowns`; row major */
  covariance: Float64Array
  unknowns: string[]
  iterations: number
  converged: boolean
}

/**
 * Cameras, their rig and all plate poses at once, such that what is seen lies nearest to what is projected (bundle adjustment, Triggs
 * et al. 2000): Levenberg-Marquardt on the normal equations, the plate poses taken out by the Schur complement, so that the work grows
 * with the number of poses and not with its cube. Rotations change by small turns on the left: no angle is singular.
 * Throws 'not-determined' when the shared unknowns cannot all be told from these views.
 * Measured: 20 poses x 250 dots x 2 cameras, 24 shared unknowns: see npm run bench, part calibrate. Tried: numeric derivatives (12 times
 * slower), the full normal matrix without Schur (7 times slower at 20 poses).
 */
export function bundleAdjust(views: PlateView[], start: BundleState, options: BundleOptions = {}): BundleResult {
  const layout = layoutOf(start, options)
  let state = copy(start)
  // beyond this distance, px, a residual pulls with constant force
  let huber = Infinity
  let scaleSettled = options.loss === 'none'
  let lambda = 1e-3
  let now = normal(views, state, layout, huber)
  let iterations = 0
  let converged = false
  const most = options.iterations ?? 60
  while (iterations < most && !converged) {
    if (!scaleSettled && iterations > 0) {
      // what is usual is found again while the solution moves, then kept so that the sum can settle
      const next = 2.5 * scaleOf(now.residuals)
      scaleSettled = Math.abs(next - huber) < 0.01 * next || iterations > 12
      huber = next
      now = normal(views, state, layout, huber)
    }
    iterations++
    converged = scaleSettled
    for (let tries = 0; tries < 10; tries++) {
      const step = solveStep(now, layout, lambda)
      const next = step && moved(state, layout, step)
      const then = next && normal(views, next, layout, huber)
      if (then && then.cost < now.cost) {
        const gain = (now.cost - then.cost) / now.cost
        state = next
        now = then
        lambda = Math.max(1e-12, lambda / 10)
        if (gain > 1e-11) converged = false
        break
      }
      lambda *= 10
    }
  }
  return finish(views, state, layout, now, huber, iterations, converged)
}

function layoutOf(start: BundleState, o: BundleOptions): Layout {
  let shared = 0
  const names: string[] = []
  const sides = start.cameras.length > 1 ? ['left ', 'right '] : ['']
  const numbers = start.cameras.map((_, k) =>
    Int32Array.from(CAMERA_NUMBERS, (name, i) => {
      if (o.holdAll || o.holdCameras || (o.free && !o.free[i])) return -1
      names.push(`${sides[k]}${name}`)
      return shared++
    }),
  )
  const rigs = start.cameras.map((_, k) => {
    if (k === 0 || o.holdAll) return -1
    names.push('turn x', 'turn y', 'turn z', 'shift x', 'shift y', 'shift z')
    shared += 6
    return shared - 6
  })
  return { shared, numbers, rigs, names }
}

const copy = (s: BundleState): BundleState => ({
  cameras: s.cameras.map((c) => Float64Array.from(c)),
  rig: s.rig.map((m) => Float64Array.from(m)),
  poses: s.poses.map((m) => Float64Array.from(m)),
})

function normal(views: PlateView[], s: BundleState, l: Layout, huber: number): Normal {
  const g = l.shared
  const n: Normal = { u: new Float64Array(g * g), gu: new Float64Array(g), w: [], v: [], gv: [], cost: 0, count: 0, residuals: [] }
  views.forEach((view, i) => {
    const w = new Float64Array(g * POSE)
    const v = new Float64Array(POSE * POSE)
    const gv = new Float64Array(POSE)
    n.residuals.push(
      view.map((seen, k) => {
        if (!seen) return null
        const local = sightingNormal(seen, s, i, k, l, huber)
        n.cost += local.cost
        n.count += local.residuals.length >> 1
        scatter(local, n, w, v, gv, g)
        return local.residuals
      }),
    )
    n.w.push(w)
    n.v.push(v)
    n.gv.push(gv)
  })
  return n
}

/** Shared unknowns after the poses have been taken out: matrix and right side; with the factors of the poses' blocks. */
function reduced(n: Normal, g: number, lambda: number): { s: Float64Array; b: Float64Array; factors: Float64Array[] } | undefined {
  const s = Float64Array.from(n.u)
  const b = Float64Array.from(n.gu)
  for (let a = 0; a < g; a++) s[a * g + a] *= 1 + lambda
  const factors: Float64Array[] = []
  for (let i = 0; i < n.v.length; i++) {
    const v = Float64Array.from(n.v[i])
    for (let a = 0; a < 6; a++) v[7 * a] *= 1 + lambda
    const f = cholesky(v, 6)
    if (!f) return undefined
    factors.push(f)
    const w = n.w[i]
    for (let a = 0; a < g; a++) {
      const x = choleskySolve(f, w.subarray(6 * a, 6 * a + 6), 6)
      for (let c = 0; c < g; c++) {
        let t = 0
        for (let k = 0; k < 6; k++) t += w[6 * c + k] * x[k]
        s[c * g + a] -= t
      }
      for (let k = 0; k < 6; k++) b[a] -= x[k] * n.gv[i][k]
    }
  }
  return { s, b, factors }
}

interface Step {
  shared: Float64Array
  poses: Float64Array[]
}

function solveStep(n: Normal, l: Layout, lambda: number): Step | undefined {
  const g = l.shared
  const r = reduced(n, g, lambda)
  if (!r) return undefined
  const { matrix, scale } = scaled(r.s, g)
  const f = cholesky(matrix, g)
  if (!f) return undefined
  const shared = choleskySolve(
    f,
    r.b.map((x, i) => x * scale[i]),
    g,
  ).map((x, i) => x * scale[i])
  const poses = r.factors.map((factor, i) => {
    const right = Float64Array.from(n.gv[i])
    for (let a = 0; a < g; a++) for (let k = 0; k < 6; k++) right[k] -= n.w[i][6 * a + k] * shared[a]
    return choleskySolve(factor, right, 6)
  })
  return { shared, poses }
}

/** Focal lengths are counted in thousands and distortions in hundredths: columns brought to like size before factoring. */
function scaled(s: Float64Array, g: number): { matrix: Float64Array; scale: Float64Array } {
  const scale = Float64Array.from({ length: g }, (_, i) => 1 / Math.sqrt(Math.max(1e-300, s[i * g + i])))
  return { matrix: s.map((v, i) => v * scale[Math.floor(i / g)] * scale[i % g]), scale }
}

function moved(s: BundleState, l: Layout, step: Step): BundleState {
  return {
    cameras: s.cameras.map((c, k) => c.map((v, i) => (l.numbers[k][i] >= 0 ? v + step.shared[l.numbers[k][i]] : v))),
    rig: s.rig.map((m, k) => (l.rigs[k] >= 0 ? nudged(m, step.shared.subarray(l.rigs[k], l.rigs[k] + 6)) : m)),
    poses: s.poses.map((m, i) => nudged(m, step.poses[i])),
  }
}

/** Turned about the origin of the parent's axes without moving the translation, then shifted. */
function nudged(m: Mat4, d: ArrayLike<number>): Mat4 {
  const r = multiply(fromRotationVector(d[0], d[1], d[2]), m)
  r[3] = m[3] + d[3]
  r[7] = m[7] + d[4]
  r[11] = m[11] + d[5]
  return orthonormalise(r)
}

function scaleOf(residuals: (Float64Array | null)[][]): number {
  const all = residuals.flatMap((v) => v.flatMap((r) => (r ? Array.from(r) : [])))
  return Math.max(1e-9, robustSigma(all))
}

function finish(views: PlateView[], s: BundleState, l: Layout, n: Normal, huber: number, iterations: number, converged: boolean): BundleResult {
  const g = l.shared
  let sum = 0
  let robust = 0
  for (const view of n.residuals)
    for (const r of view)
      if (r)
        for (let p = 0; p < r.length; p += 2) {
          const e2 = r[p] * r[p] + r[p + 1] * r[p + 1]
          sum += e2
          robust += Math.min(e2, huber * huber)
        }
  const left = 2 * n.count - g - POSE * views.length
  const sigma = Math.sqrt(robust / Math.max(1, left))
  let covariance = new Float64Array(0)
  if (g > 0) {
    const r = reduced(n, g, 0)
    const sc = r && scaled(r.s, g)
    const f = sc && cholesky(sc.matrix, g)
    if (!f || left <= 0)
      throw new OakError('not-determined', 'These poses do not determine the cameras.', {
        remedy: 'Show the plate from more directions: tilted to all sides, near and far.',
      })
    covariance = choleskyInverse(f, g).map((v, i) => v * sc.scale[Math.floor(i / g)] * sc.scale[i % g] * sigma * sigma)
  }
  return {
    ...s,
    rms: Math.sqrt(sum / n.count),
    residuals: n.residuals,
    sigma,
    covariance,
    unknowns: l.names,
    iterations,
    converged,
  }
}

/** Points of a view in the coordinates of the first camera: 3N mm. */
export function inCamera(pose: ArrayLike<number>, points: ArrayLike<number>): Float64Array {
  const out = new Float64Array(points.length)
  for (let i = 0; i < points.length; i += 3) out.set(transformPoint(pose, points[i], points[i + 1], points[i + 2]), i)
  return out
}

/** Direction of the plate's face, towards the camera's z when it is seen from behind. */
export const plateNormal = (pose: ArrayLike<number>): [number, number, number] => rotateVector(pose, 0, 0, 1)
