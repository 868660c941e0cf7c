import { jacobiEigen } from '../base/eigen.ts'
import { fromRotationVector, multiply, orthonormalise, type Mat4 } from '../base/mat4.ts'
import { PATCH } from './patch.ts'
import { FLAT, type GrowingSurface } from './surface.ts'

export interface ShapeOptions {
  /** noise of a point across its surface, mm */
  noise: number
  /** slopes that the scanner itself feigns (its calibration, what neighbours have in common), rad. Default 0.0005 */
  waviness?: number
  /** how far from the surface a point may lie at first, mm. Default one cube and a half, at least 3 mm */
  gate?: number
  /** points of the frame with which it is led near. Default 1500; then all of them count */
  points?: number
}

export interface ShapePose {
  /** scanner to surface */
  pose: Mat4
  /** shares of the frame's points: surface was found near them; they lie within three deviations of it */
  met: number
  fits: number
  /** rms of those that fit, and the deviation that was expected of them, mm */
  rms: number
  expected: number
  /** six motions as columns (6 x 6, row major): turn about `middle` in units of 1 / lever, and shift, mm; and how well each is known, mm, 1 sigma */
  motions: Float64Array
  sigmas: Float64Array
  middle: [number, number, number]
  /** typical distance of the frame's points from the middle, mm */
  lever: number
}

/** Points that must meet surface. */
const FEWEST = 60
/** how far what noise feigns may lie above its mean */
const FEIGNED = 2
/** scanners see surfaces up to some 72 degrees; cosine squared */
const SLANTING = 0.06
/**
 * Points that have to hold a motion, in effect: a few always lie on the wrong one of two faces. Where four of two thousand were all that held a frame along a
 * direction, they pulled it 0.6 mm aside and stated 0.06.
 */
const HOLDING = 30
/** rounds with some of the points, and with all */
const NEAR = 4
const ALL = 2

/**
 * Lays frames on the surface that has grown so far, point to plane (Chen and Medioni 1991) with the weights of Geman and McClure (1987), from a predicted pose.
 * What a frame says of each motion is what its normals say, less what their own noise feigns: on a flat plate the scatter of the normals alone would hold it
 * against sliding (errors in variables; Fuller 1987). Along motions that it says nothing of it stays where it was predicted.
 * Tried: patches across edges like others (ends of a round of 600 frames 2 mm apart), or with less weight (a frame pulled 0.6 mm aside where a face went out of
 * sight); only 1500 points in all rounds (0.7 mm).
 */
export function shapeTracker(surface: GrowingSurface, o: ShapeOptions) {
  const noise2 = o.noise ** 2
  const wavy = (o.waviness ?? 0.0005) ** 2
  const widest = o.gate ?? Math.max(3, 1.5 * surface.side)
  const patch = new Float64Array(PATCH)
  const h = new Float64Array(36)
  const feigned = new Float64Array(36)
  let rows = new Float64Array(0)
  const g = new Float64Array(6)
  const row = new Float64Array(6)

  /** xyz: 3N mm, scanner coordinates. Undefined when too little of the frame meets the surface. */
  return (xyz: Float32Array, start: Mat4): ShapePose | undefined => {
    const n = xyz.length / 3
    if (n < FEWEST) return undefined
    const some = Math.max(1, Math.floor(n / (o.points ?? 1500)))
    let pose: Mat4 = Float64Array.from(start)
    const middle: [number, number, number] = [0, 0, 0]
    let met: number
    let fits: number
    let sum: number
    let expected: number
    let held: number
    let lever: number
    if (rows.length < 7 * n) rows = new Float64Array(7 * n)
    for (let round = 0; ; round++) {
      const step = round < NEAR ? some : 1
      const gate = Math.max(3 * o.noise, widest / 2 ** round)
      h.fill(0)
      g.fill(0)
      feigned.fill(0)
      ;[met, fits, sum, expected, held] = [0, 0, 0, 0, 0]
      lever = placed(xyz, step, pose, middle)
      for (let i = 0; i < 3 * n; i += 3 * step) {
        const x = pose[0] * xyz[i] + pose[1] * xyz[i + 1] + pose[2] * xyz[i + 2] + pose[3]
        const y = pose[4] * xyz[i] + pose[5] * xyz[i + 1] + pose[6] * xyz[i + 2] + pose[7]
        const z = pose[8] * xyz[i] + pose[9] * xyz[i + 1] + pose[10] * xyz[i + 2] + pose[11]
        const vx = pose[3] - x
        const vy = pose[7] - y
        const vz = pose[11] - z
        if (!surface.patchAt(x, y, z, vx, vy, vz, patch)) continue
        const nx = patch[3]
        const ny = patch[4]
        const nz = patch[5]
        // a face that is not seen from here is not what was measured, however near its edge
        const towards = nx * vx + ny * vy + nz * vz
        if (towards < 0 || towards * towards < SLANTING * (vx * vx + vy * vy + vz * vz)) continue
        const e = (x - patch[0]) * nx + (y - patch[1]) * ny + (z - patch[2]) * nz
        if (e > 3 * gate || e < -3 * gate) continue
        met++
        const thin = patch[7]
        // noise averages out; what scatters beyond it is shape that the plane does not follow, and its slope is no chance
        const bent = Math.max(0, thin - noise2 * (1 + 2 * Math.sqrt(2 / patch[6])))
        const tilt = (thin / patch[6] + bent) * patch[8] + wavy
        const variance = Math.max(noise2, thin) + thin / patch[6] + tilt * (surface.side / 2) ** 2
        const u = e / gate
        const w = 1 / (1 + u * u) ** 2 / variance
        if (e * e < 9 * variance) {
          fits++
          sum += e * e
          expected += variance
        }
        // what is no plane would pull: across an edge it lies wherever more points came from, and that changes with the side one looks from
        if (thin > FLAT * noise2) continue
        // turns in units of the lever, so that all six motions are lengths; about the patch's middle: a point beside it would hold a round part by its facets
        const px = (patch[0] - middle[0]) / lever
        const py = (patch[1] - middle[1]) / lever
        const pz = (patch[2] - middle[2]) / lever
        row[0] = py * nz - pz * ny
        row[1] = pz * nx - px * nz
        row[2] = px * ny - py * nx
        row[3] = nx
        row[4] = ny
        row[5] = nz
        rows.set(row, 7 * held)
        rows[7 * held++ + 6] = w
        for (let r = 0; r < 6; r++) {
          g[r] += w * row[r] * e
          for (let q = 0; q <= r; q++) h[6 * r + q] += w * row[r] * row[q]
        }
        feign(px, py, pz, nx, ny, nz, row, FEIGNED * w * tilt, feigned)
      }
      if (met < FEWEST) return undefined
      for (let r = 0; r < 6; r++)
        for (let q = 0; q < r; q++) {
          h[6 * q + r] = h[6 * r + q]
          feigned[6 * q + r] = feigned[6 * r + q]
        }
      const enough = step === 1 ? HOLDING : Math.max(6, HOLDING / step)
      pose = moved(pose, stepOf(h, feigned, g, rows, held, enough), middle, lever)
      if (round === NEAR + ALL - 1) break
    }
    const { values, vectors } = jacobiEigen(
      h.map((v, k) => v - feigned[k]),
      6,
    )
    const points = holding(rows, held, vectors)
    return {
      pose,
      met: met / n,
      fits: fits / n,
      rms: Math.sqrt(sum / Math.max(1, fits)),
      expected: Math.sqrt(expected / Math.max(1, fits)),
      motions: vectors,
      sigmas: values.map((v, k) => (v > 0 && points[k] >= HOLDING ? 1 / Math.sqrt(v) : Infinity)),
      middle,
      lever,
    }
  }
}

/** The step along each motion, as far as what is said of it is not feigned. */
function stepOf(h: Float64Array, feigned: Float64Array, g: Float64Array, rows: Float64Array, count: number, enough: number): Float64Array {
  const { values, vectors } = jacobiEigen(h, 6)
  const points = holding(rows, count, vectors)
  const d = new Float64Array(6)
  for (let k = 0; k < 6; k++) {
    let along = 0
    let noisy = 0
    for (let r = 0; r < 6; r++) {
      along += vectors[6 * r + k] * g[r]
      for (let q = 0; q < 6; q++) noisy += vectors[6 * r + k] * feigned[6 * r + q] * vectors[6 * q + k]
    }
    const told = values[k] - noisy
    if (!(told > 0) || points[k] < enough) continue
    for (let r = 0; r < 6; r++) d[r] -= (vectors[6 * r + k] * along * told) / values[k] ** 2
  }
  return d
}

/** A pose after turning about the middle (units of 1 / lever) and shifting. */
function moved(pose: Mat4, d: Float64Array, middle: readonly number[], lever: number): Mat4 {
  const turn = fromRotationVector(d[0] / lever, d[1] / lever, d[2] / lever)
  for (let k = 0; k < 3; k++) turn[4 * k + 3] = middle[k] + d[3 + k] - turn[4 * k] * middle[0] - turn[4 * k + 1] * middle[1] - turn[4 * k + 2] * middle[2]
  return orthonormalise(multiply(turn, pose))
}

/** Middle of a frame where it lies now, and the typical distance from it, which no pose changes. */
function placed(xyz: Float32Array, step: number, pose: Mat4, middle: [number, number, number]): number {
  const n = Math.ceil(xyz.length / 3 / step)
  let [x, y, z, squares] = [0, 0, 0, 0]
  for (let i = 0; i < xyz.length; i += 3 * step) {
    x += xyz[i]
    y += xyz[i + 1]
    z += xyz[i + 2]
    squares += xyz[i] * xyz[i] + xyz[i + 1] * xyz[i + 1] + xyz[i + 2] * xyz[i + 2]
  }
  x /= n
  y /= n
  z /= n
  for (let k = 0; k < 3; k++) middle[k] = pose[4 * k] * x + pose[4 * k + 1] * y + pose[4 * k + 2] * z + pose[4 * k + 3]
  return Math.max(1e-3, Math.sqrt(Math.max(0, squares / n - x * x - y * y - z * z)))
}

/**
 * How many points hold each of six motions, in effect (Kish 1965): the square of the sum of what each says of it, over the sum of the squares. rows: seven
 * numbers a point, J and its weight. vectors: 6 x 6, motions as columns.
 */
function holding(rows: Float64Array, count: number, vectors: Float64Array): Float64Array {
  const sum = new Float64Array(6)
  const squares = new Float64Array(6)
  for (let i = 0; i < 7 * count; i += 7)
    for (let k = 0; k < 6; k++) {
      let along = 0
      for (let r = 0; r < 6; r++) along += rows[i + r] * vectors[6 * r + k]
      const says = rows[i + 6] * along * along
      sum[k] += says
      squares[k] += says * says
    }
  return sum.map((v, k) => (v * v) / Math.max(squares[k], 1e-300))
}

/**
 * What tilts of that weight add to the information by chance: the mean of dJ dJ' for rows J = (p x n, n) whose normals scatter within the surface, T = I - n n':
 * [p]T[p]', [p]T and T. row: J. Fills the lower triangle.
 */
function feign(px: number, py: number, pz: number, nx: number, ny: number, nz: number, row: Float64Array, weight: number, out: Float64Array): void {
  // [p] T [p]' is the same as |p|2 I - p p' - (p x n)(p x n)'
  const pp = px * px + py * py + pz * pz
  out[0] += weight * (pp - px * px - row[0] * row[0])
  out[6] += weight * (-px * py - row[0] * row[1])
  out[7] += weight * (pp - py * py - row[1] * row[1])
  out[12] += weight * (-px * pz - row[0] * row[2])
  out[13] += weight * (-py * pz - row[1] * row[2])
  out[14] += weight * (pp - pz * pz - row[2] * row[2])
  // T [p]' = [p]' - n (p x n)'
  out[18] += weight * (-nx * row[0])
  out[19] += weight * (pz - nx * row[1])
  out[20] += weight * (-py - nx * row[2])
  out[24] += weight * (-pz - ny * row[0])
  out[25] += weight * (-ny * row[1])
  out[26] += weight * (px - ny * row[2])
  out[30] += weight * (py - nz * row[0])
  out[31] += weight * (-px - nz * row[1])
  out[32] += weight * (-nz * row[2])
  out[21] += weight * (1 - nx * nx)
  out[27] += weight * (-ny * nx)
  out[28] += weight * (1 - ny * ny)
  out[33] += weight * (-nz * nx)
  out[34] += weight * (-nz * ny)
  out[35] += weight * (1 - nz * nz)
}
