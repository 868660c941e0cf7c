import { jacobiEigen } from '../base/eigen.ts'
import { transformPoint, type Mat4 } from '../base/mat4.ts'
import { makeMarkers, type Markers } from './markers.ts'
import { turnSymmetric3 } from './sight.ts'

/**
 * A map in axes a person can read: origin in the middle, z the way most markers face, x along the greatest extent across it. A map that was
 * solved stands in the axes of its first frame. Gives the moved markers and the pose that did it (old to new).
 */
export function levelled(m: Markers): { markers: Markers; pose: Mat4 } {
  const n = m.diameters.length
  const mean = [0, 0, 0]
  const facing = [0, 0, 0]
  for (let i = 0; i < 3 * n; i++) {
    mean[i % 3] += m.positions[i] / n
    facing[i % 3] += m.normals[i]
  }
  const s = new Float64Array(9)
  for (let i = 0; i < n; i++)
    for (let r = 0; r < 3; r++) for (let c = 0; c < 3; c++) s[3 * r + c] += (m.positions[3 * i + r] - mean[r]) * (m.positions[3 * i + c] - mean[c])
  const { vectors } = jacobiEigen(s, 3)
  // the thinnest direction, if the markers face along it; else the way they face
  let z = [vectors[0], vectors[3], vectors[6]]
  const along = z[0] * facing[0] + z[1] * facing[1] + z[2] * facing[2]
  const strength = Math.hypot(facing[0], facing[1], facing[2])
  if (strength > 1e-9 && Math.abs(along) < 0.8 * strength) z = facing.map((v) => v / strength)
  else if (along < 0) z = z.map((v) => -v)
  let x = [vectors[2], vectors[5], vectors[8]]
  const d = x[0] * z[0] + x[1] * z[1] + x[2] * z[2]
  x = x.map((v, k) => v - d * z[k])
  const l = Math.hypot(x[0], x[1], x[2]) || 1
  x = x.map((v) => v / l)
  const y = [z[1] * x[2] - z[2] * x[1], z[2] * x[0] - z[0] * x[2], z[0] * x[1] - z[1] * x[0]]
  const pose = new Float64Array(16)
  ;[x, y, z].forEach((a, r) => {
    for (let k = 0; k < 3; k++) pose[4 * r + k] = a[k]
    pose[4 * r + 3] = -(a[0] * mean[0] + a[1] * mean[1] + a[2] * mean[2])
  })
  pose[15] = 1
  return { markers: turned(m, pose), pose }
}

/** Markers moved by a pose, with everything that has a direction. */
export function turned(m: Markers, pose: ArrayLike<number>): Markers {
  const n = m.diameters.length
  const covariance = new Float64Array(6 * n)
  for (let i = 0; i < n; i++) turnSymmetric3(Float64Array.from(pose), m.covariance, covariance, 6 * i, 6 * i)
  return makeMarkers({
    ...m,
    covariance,
    positions: Array.from({ length: n }, (_, i) => transformPoint(pose, m.positions[3 * i], m.positions[3 * i + 1], m.positions[3 * i + 2])).flat(),
    normals: Array.from({ length: n }, (_, i) =>
      [0, 4, 8].map((r) => pose[r] * m.normals[3 * i] + pose[r + 1] * m.normals[3 * i + 1] + pose[r + 2] * m.normals[3 * i + 2]),
    ).flat(),
  })
}
