import type { Mat4 } from '../base/mat4.ts'
import { projectWithDerivatives } from './camera.ts'

/** What one camera saw of the plate in one pose. points: 3N mm in plate coordinates, pixels: 2N. */
export interface Sighting {
  points: Float64Array
  pixels: Float64Array
}
/** One pose of the plate, by camera; null where a camera saw nothing of it. */
export type PlateView = (Sighting | null)[]

export interface BundleState {
  /** the nine numbers of each camera */
  cameras: Float64Array[]
  /** first camera to camera k, 4x4; the first is the identity */
  rig: Mat4[]
  /** plate to first camera, one a view */
  poses: Mat4[]
}

/** Unknowns of a pose: small turn, shift. */
export const POSE = 6

/** Where each unknown stands in the normal equations. */
export interface Layout {
  shared: number
  /** column of each of the nine numbers by camera, -1 held */
  numbers: Int32Array[]
  /** first column of the rig of each camera, -1 held */
  rigs: number[]
  names: string[]
}

/** Normal equations of all sightings: shared unknowns, the block of each pose, and what couples them. */
export interface Normal {
  u: Float64Array
  gu: Float64Array
  /** by view: shared x 6 */
  w: Float64Array[]
  v: Float64Array[]
  gv: Float64Array[]
  cost: number
  count: number
  residuals: (Float64Array | null)[][]
}

/** Most columns a point touches: nine numbers, the rig, the plate's pose. */
const MOST = 21
interface Local {
  /** shared columns; the last six local ones are the pose */
  columns: Int32Array
  used: number
  /** lower triangle of the local normal matrix, row length MOST; right side */
  m: Float64Array
  b: Float64Array
  cost: number
  residuals: Float64Array
}

const jc = new Float64Array(18)
const jp = new Float64Array(6)
const uv = new Float64Array(2)
const row = new Float64Array(2 * MOST)

/** The share of one sighting in the normal equations, on the few columns it touches. */
export function sightingNormal(seen: Sighting, s: BundleState, view: number, k: number, l: Layout, huber: number): Local {
  const camera = s.cameras[k]
  const rig = s.rig[k]
  const pose = s.poses[view]
  const rigged = k > 0
  const points = seen.points
  const pixels = seen.pixels
  const count = pixels.length >> 1
  const residuals = new Float64Array(2 * count)
  const columns = new Int32Array(15)
  const numbers = new Int32Array(9)
  let used = 0
  for (let c = 0; c < 9; c++)
    if (l.numbers[k][c] >= 0) {
      numbers[used] = c
      columns[used++] = l.numbers[k][c]
    }
  const ofRig = used
  const rigFree = l.rigs[k] >= 0
  if (rigFree) for (let c = 0; c < 6; c++) columns[used++] = l.rigs[k] + c
  const all = used + POSE
  const m = new Float64Array(all * MOST)
  const b = new Float64Array(all)
  let cost = 0
  for (let p = 0; p < count; p++) {
    const X = points[3 * p]
    const Y = points[3 * p + 1]
    const Z = points[3 * p + 2]
    // turned plate point, then the point in the first camera, then in this one
    const ax = pose[0] * X + pose[1] * Y + pose[2] * Z
    const ay = pose[4] * X + pose[5] * Y + pose[6] * Z
    const az = pose[8] * X + pose[9] * Y + pose[10] * Z
    let qx = ax + pose[3]
    let qy = ay + pose[7]
    let qz = az + pose[11]
    let tx = 0
    let ty = 0
    let tz = 0
    if (rigged) {
      tx = rig[0] * qx + rig[1] * qy + rig[2] * qz
      ty = rig[4] * qx + rig[5] * qy + rig[6] * qz
      tz = rig[8] * qx + rig[9] * qy + rig[10] * qz
      qx = tx + rig[3]
      qy = ty + rig[7]
      qz = tz + rig[11]
    }
    if (!(qz > 0)) {
      cost = Infinity
      break
    }
    projectWithDerivatives(camera, qx, qy, qz, uv, jc, jp)
    const eu = uv[0] - pixels[2 * p]
    const ev = uv[1] - pixels[2 * p + 1]
    residuals[2 * p] = eu
    residuals[2 * p + 1] = ev
    const e = Math.sqrt(eu * eu + ev * ev)
    const weight = e > huber ? huber / e : 1
    cost += e > huber ? huber * (2 * e - huber) : e * e
    for (let d = 0; d < 2; d++) {
      const o = d * MOST
      const j0 = jp[3 * d]
      const j1 = jp[3 * d + 1]
      const j2 = jp[3 * d + 2]
      for (let c = 0; c < ofRig; c++) row[o + c] = jc[9 * d + numbers[c]]
      // by the point in the first camera
      let k0 = j0
      let k1 = j1
      let k2 = j2
      if (rigged) {
        k0 = j0 * rig[0] + j1 * rig[4] + j2 * rig[8]
        k1 = j0 * rig[1] + j1 * rig[5] + j2 * rig[9]
        k2 = j0 * rig[2] + j1 * rig[6] + j2 * rig[10]
        if (rigFree) {
          row[o + ofRig] = j2 * ty - j1 * tz
          row[o + ofRig + 1] = j0 * tz - j2 * tx
          row[o + ofRig + 2] = j1 * tx - j0 * ty
          row[o + ofRig + 3] = j0
          row[o + ofRig + 4] = j1
          row[o + ofRig + 5] = j2
        }
      }
      row[o + used] = k2 * ay - k1 * az
      row[o + used + 1] = k0 * az - k2 * ax
      row[o + used + 2] = k1 * ax - k0 * ay
      row[o + used + 3] = k0
      row[o + used + 4] = k1
      row[o + used + 5] = k2
    }
    for (let r = 0; r < all; r++) {
      const ru = row[r] * weight
      const rv = row[MOST + r] * weight
      b[r] -= ru * eu + rv * ev
      const o = r * MOST
      for (let c = 0; c <= r; c++) m[o + c] += ru * row[c] + rv * row[MOST + c]
    }
  }
  return { columns, used, m, b, cost, residuals }
}

/** Adds a sighting to the whole. */
export function scatter(local: Local, n: Normal, w: Float64Array, v: Float64Array, gv: Float64Array, g: number): void {
  const { columns, used, m, b } = local
  for (let r = 0; r < used; r++) {
    n.gu[columns[r]] += b[r]
    for (let c = 0; c <= r; c++) {
      n.u[columns[r] * g + columns[c]] += m[r * MOST + c]
      if (c < r) n.u[columns[c] * g + columns[r]] += m[r * MOST + c]
    }
  }
  for (let r = 0; r < POSE; r++) {
    const o = (used + r) * MOST
    gv[r] += b[used + r]
    for (let c = 0; c < used; c++) w[columns[c] * POSE + r] += m[o + c]
    for (let c = 0; c <= r; c++) {
      v[r * POSE + c] += m[o + used + c]
      if (c < r) v[c * POSE + r] += m[o + used + c]
    }
  }
}
