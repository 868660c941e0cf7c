import { jacobiEigen } from '../base/eigen.ts'
import { OakError } from '../base/errors.ts'
import { fromQuaternion, identity, transformPoint, type Mat4 } from '../base/mat4.ts'

export interface RigidFit {
  pose: Mat4
  /** distance of each pair after the fit, mm */
  residuals: Float64Array
  rms: number
  max: number
  /** the pairs leave a turn about their line free */
  turnFree: boolean
}

/**
 * Rigid pose that brings `from` (3N) onto `to` (3N) with the least sum of weighted squared distances.
 * Closed form by the largest eigenvector of a 4x4 matrix (Horn 1987): never a reflection, right for coplanar and
 * half-turn cases as well. Throws OakError 'too-few-pairs' below 3 pairs or when a weight is negative;
 * `turnFree` tells that all pairs lie on one line.
 */
export function fitRigid(from: ArrayLike<number>, to: ArrayLike<number>, weights?: ArrayLike<number>): RigidFit {
  const n = from.length / 3
  if (n < 3 || to.length !== from.length)
    throw new OakError('too-few-pairs', `Three point pairs are needed, there are ${Math.floor(Math.min(n, to.length / 3))}.`, {
      remedy: 'Pick three or more places that both sides show, far apart and not on one line.',
    })
  let w = 0
  const a = [0, 0, 0]
  const b = [0, 0, 0]
  for (let i = 0; i < n; i++) {
    const wi = weights ? weights[i] : 1
    if (!(wi >= 0)) throw new OakError('bad-weight', `Weight ${wi} of pair ${i + 1} is not a positive number.`)
    w += wi
    for (let k = 0; k < 3; k++) {
      a[k] += wi * from[3 * i + k]
      b[k] += wi * to[3 * i + k]
    }
  }
  if (!(w > 0)) throw new OakError('bad-weight', 'All pairs have weight zero.')
  for (let k = 0; k < 3; k++) {
    a[k] /= w
    b[k] /= w
  }
  const s = new Float64Array(9)
  const spread = new Float64Array(9)
  for (let i = 0; i < n; i++) {
    const wi = weights ? weights[i] : 1
    for (let r = 0; r < 3; r++)
      for (let c = 0; c < 3; c++) {
        s[3 * r + c] += wi * (from[3 * i + r] - a[r]) * (to[3 * i + c] - b[c])
        spread[3 * r + c] += wi * (from[3 * i + r] - a[r]) * (from[3 * i + c] - a[c])
      }
  }
  const [xx, xy, xz, yx, yy, yz, zx, zy, zz] = s
  const horn = Float64Array.of(
    xx + yy + zz,
    yz - zy,
    zx - xz,
    xy - yx,
    yz - zy,
    xx - yy - zz,
    xy + yx,
    zx + xz,
    zx - xz,
    xy + yx,
    yy - xx - zz,
    yz + zy,
    xy - yx,
    zx + xz,
    yz + zy,
    zz - xx - yy,
  )
  const { vectors } = jacobiEigen(horn, 4)
  const q = [vectors[3], vectors[7], vectors[11], vectors[15]]
  const pose = fromQuaternion(q)
  const ra = transformPoint(pose, a[0], a[1], a[2])
  for (let k = 0; k < 3; k++) pose[4 * k + 3] = b[k] - ra[k]
  const residuals = new Float64Array(n)
  let ss = 0
  let max = 0
  for (let i = 0; i < n; i++) {
    const p = transformPoint(pose, from[3 * i], from[3 * i + 1], from[3 * i + 2])
    const d = Math.hypot(p[0] - to[3 * i], p[1] - to[3 * i + 1], p[2] - to[3 * i + 2])
    residuals[i] = d
    ss += (weights ? weights[i] : 1) * d * d
    max = Math.max(max, d)
  }
  const e = jacobiEigen(spread, 3).values
  return { pose: w > 0 ? pose : identity(), residuals, rms: Math.sqrt(ss / w), max, turnFree: e[1] <= 1e-8 * e[2] }
}
