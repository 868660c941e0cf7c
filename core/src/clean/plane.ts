import { u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { smallestEigen3 } from '../base/eigen.ts'

/** n.x = offset, n a unit vector. Points with n.x - offset below the raised plane are on the table's side. */
export interface Plane {
  normal: [number, number, number]
  offset: number
}

/** Plane through three points, normal by the right-hand rule. Throws OakError 'on-a-line'. */
export function planeThrough(a: ArrayLike<number>, b: ArrayLike<number>, c: ArrayLike<number>): Plane {
  const u = [b[0] - a[0], b[1] - a[1], b[2] - a[2]]
  const v = [c[0] - a[0], c[1] - a[1], c[2] - a[2]]
  const n = [u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]]
  const l = Math.hypot(n[0], n[1], n[2])
  if (!(l > 1e-6 * Math.hypot(u[0], u[1], u[2]) * Math.hypot(v[0], v[1], v[2])))
    throw new OakError('on-a-line', 'The three places lie on one line.', { remedy: 'Pick the third one further to the side.' })
  const normal: [number, number, number] = [n[0] / l, n[1] / l, n[2] / l]
  return { normal, offset: normal[0] * a[0] + normal[1] * a[1] + normal[2] * a[2] }
}

/**
 * Least-squares plane of 3N points (Pearson 1901), refitted without points beyond 3 robust deviations, so that the foot of
 * the part at the rim of a picked patch does not tilt it. Throws OakError 'too-few-points' below 3.
 */
export function fitPlane(xyz: ArrayLike<number>, rounds = 4): Plane & { sigma: number; used: number } {
  const n = xyz.length / 3
  if (n < 3) throw new OakError('too-few-points', `A plane needs three points, there are ${n}.`, { remedy: 'Pick a larger patch.' })
  const keep = u8(n).fill(1)
  const e = new Float64Array(6)
  let plane: Plane = { normal: [0, 0, 1], offset: 0 }
  let sigma = 0
  let used = n
  for (let r = 0; r < rounds; r++) {
    const m = [0, 0, 0]
    used = 0
    for (let i = 0; i < n; i++)
      if (keep[i]) {
        used++
        for (let k = 0; k < 3; k++) m[k] += xyz[3 * i + k]
      }
    for (let k = 0; k < 3; k++) m[k] /= used
    const s = [0, 0, 0, 0, 0, 0]
    for (let i = 0; i < n; i++) {
      if (!keep[i]) continue
      const x = xyz[3 * i] - m[0],
        y = xyz[3 * i + 1] - m[1],
        z = xyz[3 * i + 2] - m[2]
      s[0] += x * x
      s[1] += x * y
      s[2] += x * z
      s[3] += y * y
      s[4] += y * z
      s[5] += z * z
    }
    smallestEigen3(s[0], s[1], s[2], s[3], s[4], s[5], e)
    plane = { normal: [e[0], e[1], e[2]], offset: e[0] * m[0] + e[1] * m[1] + e[2] * m[2] }
    const d = Float64Array.from({ length: n }, (_, i) => Math.abs(e[0] * xyz[3 * i] + e[1] * xyz[3 * i + 1] + e[2] * xyz[3 * i + 2] - plane.offset))
    const sorted = d.slice().sort()
    sigma = Math.sqrt(Math.max(0, e[3]) / Math.max(1, used - 3))
    const limit = Math.max(3 * 1.4826 * sorted[(n - 1) >> 1], 1e-9)
    let changed = false
    for (let i = 0; i < n; i++) {
      const k = d[i] <= limit ? 1 : 0
      if (k !== keep[i]) changed = true
      keep[i] = k
    }
    if (!changed) break
  }
  return { ...plane, sigma, used }
}

/** Keep flags of 3N points (in the plane's coordinates): 1 above the plane raised by `raise` mm. */
export function abovePlane(xyz: Float32Array, plane: Plane, raise: number): Uint8Array {
  const keep = u8(xyz.length / 3)
  const [a, b, c] = plane.normal
  const limit = plane.offset + raise
  for (let i = 0; i < keep.length; i++) keep[i] = a * xyz[3 * i] + b * xyz[3 * i + 1] + c * xyz[3 * i + 2] > limit ? 1 : 0
  return keep
}
