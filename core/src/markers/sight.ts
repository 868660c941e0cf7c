import { cameraToArray, projectWithDerivatives, type Stereo } from '../calibrate/camera.ts'
import { transformPoint } from '../base/mat4.ts'

/** Markers seen in one frame, in scanner coordinates. */
export interface MarkerFrame {
  /** ms, of the scanner's clock */
  time: number
  /** 3N mm */
  xyz: Float32Array
  /** N mm, 0 where it is not known */
  diameters: Float32Array
}

/** How well a place before the scanner is known, for one pixel of noise: the information matrix J'J of both images. */
export type SightModel = (x: number, y: number, z: number, out: Float64Array) => void

/**
 * A pair of cameras knows a place well across the line of sight and less well along it. What the four pixel coordinates say about a place
 * (x, y, z) mm in the left camera: out = xx xy xz yy yz zz of J'J, px^2/mm^2, J the derivatives of the four coordinates by the place. Its
 * inverse is the covariance for a pixel noise of 1 px (Hartley and Zisserman 2004, 5.2).
 */
export function stereoSight(s: Stereo): SightModel {
  const l = cameraToArray(s.left)
  const r = cameraToArray(s.right)
  const m = s.pose
  const uv = new Float64Array(2)
  const jc = new Float64Array(18)
  const jl = new Float64Array(6)
  const jr = new Float64Array(6)
  const g = new Float64Array(6)
  return (x, y, z, out) => {
    projectWithDerivatives(l, x, y, z, uv, jc, jl)
    const [qx, qy, qz] = transformPoint(m, x, y, z)
    projectWithDerivatives(r, qx, qy, qz, uv, jc, jr)
    for (let row = 0; row < 2; row++) for (let k = 0; k < 3; k++) g[3 * row + k] = jr[3 * row] * m[k] + jr[3 * row + 1] * m[4 + k] + jr[3 * row + 2] * m[8 + k]
    let o = 0
    for (let a = 0; a < 3; a++) for (let b = a; b < 3; b++) out[o++] = jl[a] * jl[b] + jl[3 + a] * jl[3 + b] + g[a] * g[b] + g[3 + a] * g[3 + b]
  }
}

/** Where nothing is known of the optics: the same in all directions, 1 mm for 1 "pixel". */
export const evenSight: SightModel = (_x, _y, _z, out) => {
  out.fill(0)
  out[0] = out[3] = out[5] = 1
}

/** Inverse of a symmetric 3x3 matrix held as xx xy xz yy yz zz. False when it is singular. */
export function invertSymmetric3(a: ArrayLike<number>, out: Float64Array, ia = 0, io = 0): boolean {
  const [xx, xy, xz, yy, yz, zz] = [a[ia], a[ia + 1], a[ia + 2], a[ia + 3], a[ia + 4], a[ia + 5]]
  const c0 = yy * zz - yz * yz
  const c1 = xz * yz - xy * zz
  const c2 = xy * yz - xz * yy
  const det = xx * c0 + xy * c1 + xz * c2
  if (!(Math.abs(det) > 1e-300)) return false
  out[io] = c0 / det
  out[io + 1] = c1 / det
  out[io + 2] = c2 / det
  out[io + 3] = (xx * zz - xz * xz) / det
  out[io + 4] = (xy * xz - xx * yz) / det
  out[io + 5] = (xx * yy - xy * xy) / det
  return true
}

/** d' A d for a symmetric matrix held as xx xy xz yy yz zz. */
export function quadratic3(a: ArrayLike<number>, x: number, y: number, z: number, o = 0): number {
  return x * (a[o] * x + 2 * (a[o + 1] * y + a[o + 2] * z)) + y * (a[o + 3] * y + 2 * a[o + 4] * z) + a[o + 5] * z * z
}

/** B A B' for the turn of a pose B and symmetric A: a covariance or an information seen from other axes. */
export function turnSymmetric3(m: ArrayLike<number>, a: ArrayLike<number>, out: Float64Array, ia = 0, io = 0): void {
  const t = turned
  for (let r = 0; r < 3; r++) {
    const [p, q, s] = [m[4 * r], m[4 * r + 1], m[4 * r + 2]]
    t[3 * r] = p * a[ia] + q * a[ia + 1] + s * a[ia + 2]
    t[3 * r + 1] = p * a[ia + 1] + q * a[ia + 3] + s * a[ia + 4]
    t[3 * r + 2] = p * a[ia + 2] + q * a[ia + 4] + s * a[ia + 5]
  }
  let o = io
  for (let r = 0; r < 3; r++) for (let c = r; c < 3; c++) out[o++] = t[3 * r] * m[4 * c] + t[3 * r + 1] * m[4 * c + 1] + t[3 * r + 2] * m[4 * c + 2]
}
const turned = new Float64Array(9)
