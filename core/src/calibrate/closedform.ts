import { jacobiEigen } from '../base/eigen.ts'
import { identity, orthonormalise, type Mat4 } from '../base/mat4.ts'
import { pixelRay } from './camera.ts'
import { homography } from './homography.ts'

/**
 * Focal lengths and principal point from plane-to-image maps alone, without distortion (Zhang 2000, zero skew).
 * With noise the full form sometimes leaves the image or has no real root; then the principal point is put in the middle of the
 * image and only the focal lengths are solved for. undefined: the views do not determine a focal length (all of one tilt).
 * homographies: each nine numbers, row major.
 */
export function closedForm(homographies: ArrayLike<number>[], width: number, height: number): Float64Array | undefined {
  const full = homographies.length >= 3 ? zhang(homographies, width, height) : undefined
  return full ?? focalOnly(homographies, width, height)
}

function zhang(homographies: ArrayLike<number>[], width: number, height: number): Float64Array | undefined {
  // scaled pixels keep the six columns alike in size
  const s = 2 / (width + height)
  const m = new Float64Array(25)
  for (const raw of homographies) {
    const h = centred(raw, width / 2, height / 2, s)
    const v = (i: number, j: number) => {
      const [a, b, c, d, e, f] = [h[i], h[3 + i], h[6 + i], h[j], h[3 + j], h[6 + j]]
      // b11 b22 b13 b23 b33: zero skew leaves b12 out
      return [a * d, b * e, c * d + a * f, c * e + b * f, c * f]
    }
    const v12 = v(0, 1)
    const v11 = v(0, 0)
    const v22 = v(1, 1)
    const rows = [v12, v11.map((x, k) => x - v22[k])]
    for (const row of rows) for (let r = 0; r < 5; r++) for (let c = 0; c < 5; c++) m[5 * r + c] += row[r] * row[c]
  }
  const { values, vectors } = jacobiEigen(m, 5)
  if (!(values[1] > 1e-10 * values[4])) return undefined
  const b = Float64Array.from({ length: 5 }, (_, r) => vectors[5 * r] * Math.sign(vectors[0] || 1))
  const cx = -b[2] / b[0]
  const cy = -b[3] / b[1]
  const lambda = b[4] - (b[2] * b[2]) / b[0] - (b[3] * b[3]) / b[1]
  const fx = Math.sqrt(lambda / b[0]) / s
  const fy = Math.sqrt(lambda / b[1]) / s
  const inside = Math.abs(cx / s) < width / 4 && Math.abs(cy / s) < height / 4
  if (!(fx > 0) || !(fy > 0) || !inside || fx / fy > 1.3 || fy / fx > 1.3) return undefined
  return Float64Array.of(fx, fy, cx / s + width / 2, cy / s + height / 2, 0, 0, 0, 0, 0)
}

function focalOnly(homographies: ArrayLike<number>[], width: number, height: number): Float64Array | undefined {
  const s = 2 / (width + height)
  let aa = 0
  let ab = 0
  for (const raw of homographies) {
    const h = centred(raw, (width - 1) / 2, (height - 1) / 2, s)
    const rows = [
      [h[0] * h[1] + h[3] * h[4], h[6] * h[7]],
      [h[0] * h[0] + h[3] * h[3] - h[1] * h[1] - h[4] * h[4], h[6] * h[6] - h[7] * h[7]],
    ]
    for (const [a, b] of rows) {
      aa += a * a
      ab -= a * b
    }
  }
  const f = Math.sqrt(aa / ab) / s
  if (!(f > 0) || !Number.isFinite(f) || f > 50 * width) return undefined
  return Float64Array.of(f, f, (width - 1) / 2, (height - 1) / 2, 0, 0, 0, 0, 0)
}

/** The map with the image shifted by (cx, cy) and scaled by s, and the columns brought to like size. */
function centred(h: ArrayLike<number>, cx: number, cy: number, s: number): Float64Array {
  const out = new Float64Array(9)
  for (let k = 0; k < 3; k++) {
    out[k] = s * (h[k] - cx * h[6 + k])
    out[3 + k] = s * (h[3 + k] - cy * h[6 + k])
    out[6 + k] = h[6 + k]
  }
  const l = 1 / Math.hypot(out[0], out[3], out[6])
  return out.map((v) => v * l)
}

/**
 * Pose of a plane seen by a known camera: from the plane-to-image map of the undistorted points (Zhang 2000, eq. 2). The start for
 * refinement, not the end. plane: 3N mm (z about 0), pixels: 2N. undefined when the points lie on a line.
 */
export function planePose(camera: ArrayLike<number>, plane: ArrayLike<number>, pixels: ArrayLike<number>): Mat4 | undefined {
  const n = pixels.length >> 1
  const rays = new Float64Array(2 * n)
  const flat = new Float64Array(2 * n)
  const ray = new Float64Array(2)
  for (let i = 0; i < n; i++) {
    pixelRay(camera, pixels[2 * i], pixels[2 * i + 1], ray)
    rays.set(ray, 2 * i)
    flat[2 * i] = plane[3 * i]
    flat[2 * i + 1] = plane[3 * i + 1]
  }
  const h = homography(flat, rays)
  if (!h) return undefined
  const l1 = Math.hypot(h[0], h[3], h[6])
  const l2 = Math.hypot(h[1], h[4], h[7])
  const s = (h[8] > 0 ? 2 : -2) / (l1 + l2)
  const m = identity()
  // rows of the rotation's transpose: orthonormalise works on rows
  const r = Float64Array.of(h[0] * s, h[3] * s, h[6] * s, 0, h[1] * s, h[4] * s, h[7] * s, 0, 0, 0, 0, 0, 0, 0, 0, 1)
  orthonormalise(r)
  for (let i = 0; i < 3; i++) for (let j = 0; j < 3; j++) m[4 * i + j] = r[4 * j + i]
  m[3] = h[2] * s
  m[7] = h[5] * s
  m[11] = h[8] * s
  return m
}
