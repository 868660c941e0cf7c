import { pixelRay } from './camera.ts'

const ray = new Float64Array(2)

/**
 * The point two pixels of a stereo pair look at: middle of the shortest way between the two rays (Beardsley et al. 1997).
 * left, right: the nine numbers of the cameras. pose: 4x4, left camera to right camera. out: x, y, z mm in the left camera, and out[3] how
 * far the rays pass each other by, mm: what a sound calibration keeps near the noise. NaN for parallel rays.
 */
export function triangulate(
  left: ArrayLike<number>,
  right: ArrayLike<number>,
  pose: ArrayLike<number>,
  ul: number,
  vl: number,
  ur: number,
  vr: number,
  out: Float64Array,
): void {
  pixelRay(left, ul, vl, ray)
  const ax = ray[0]
  const ay = ray[1]
  pixelRay(right, ur, vr, ray)
  // direction and centre of the right camera in left coordinates: R^T d, -R^T t
  const bx = pose[0] * ray[0] + pose[4] * ray[1] + pose[8]
  const by = pose[1] * ray[0] + pose[5] * ray[1] + pose[9]
  const bz = pose[2] * ray[0] + pose[6] * ray[1] + pose[10]
  const cx = -(pose[0] * pose[3] + pose[4] * pose[7] + pose[8] * pose[11])
  const cy = -(pose[1] * pose[3] + pose[5] * pose[7] + pose[9] * pose[11])
  const cz = -(pose[2] * pose[3] + pose[6] * pose[7] + pose[10] * pose[11])
  const aa = ax * ax + ay * ay + 1
  const ab = ax * bx + ay * by + bz
  const bb = bx * bx + by * by + bz * bz
  const ac = ax * cx + ay * cy + cz
  const bc = bx * cx + by * cy + bz * cz
  const det = aa * bb - ab * ab
  const s = (ac * bb - ab * bc) / det
  const t = (ab * ac - aa * bc) / det
  const px = s * ax
  const py = s * ay
  const qx = cx + t * bx
  const qy = cy + t * by
  const qz = cz + t * bz
  out[0] = (px + qx) / 2
  out[1] = (py + qy) / 2
  out[2] = (s + qz) / 2
  out[3] = Math.sqrt((px - qx) ** 2 + (py - qy) ** 2 + (s - qz) ** 2)
}
