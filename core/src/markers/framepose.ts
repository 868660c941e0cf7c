import { fromRotationVector, multiply, orthonormalise, type Mat4 } from '../base/mat4.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../base/solve.ts'

/**
 * Pose of a frame from markers that are known and seen: `pose` (map to scanner) is improved in place of its start such that the seen places,
 * each weighted by its information (6 numbers), lie nearest to the known ones: two or three Gauss-Newton steps. pairs: index of the known marker for
 * each seen one, -1 for none. Gives undefined when the places do not determine a pose (fewer than three, or on one line).
 */
export function framePose(
  known: ArrayLike<number>,
  seen: ArrayLike<number>,
  info: Float64Array,
  pairs: Int32Array,
  start: Mat4,
  rounds = 3,
): { pose: Mat4; /** 6x6, turn and shift in scanner axes, for a noise of 1 */ covariance: Float64Array } | undefined {
  let pose = start
  let factor: Float64Array | undefined
  const v = new Float64Array(36)
  const g = new Float64Array(6)
  const j = new Float64Array(18)
  const wj = new Float64Array(18)
  for (let round = 0; round < rounds; round++) {
    v.fill(0)
    g.fill(0)
    for (let i = 0; i < pairs.length; i++) {
      if (pairs[i] < 0) continue
      const k = 3 * pairs[i]
      const px = pose[0] * known[k] + pose[1] * known[k + 1] + pose[2] * known[k + 2]
      const py = pose[4] * known[k] + pose[5] * known[k + 1] + pose[6] * known[k + 2]
      const pz = pose[8] * known[k] + pose[9] * known[k + 1] + pose[10] * known[k + 2]
      const dx = seen[3 * i] - px - pose[3]
      const dy = seen[3 * i + 1] - py - pose[7]
      const dz = seen[3 * i + 2] - pz - pose[11]
      j[1] = pz
      j[2] = -py
      j[6] = -pz
      j[8] = px
      j[12] = py
      j[13] = -px
      j[3] = j[10] = j[17] = 1
      const o = 6 * i
      for (let c = 0; c < 6; c++) {
        wj[c] = info[o] * j[c] + info[o + 1] * j[6 + c] + info[o + 2] * j[12 + c]
        wj[6 + c] = info[o + 1] * j[c] + info[o + 3] * j[6 + c] + info[o + 4] * j[12 + c]
        wj[12 + c] = info[o + 2] * j[c] + info[o + 4] * j[6 + c] + info[o + 5] * j[12 + c]
      }
      for (let r = 0; r < 6; r++) {
        g[r] += wj[r] * dx + wj[6 + r] * dy + wj[12 + r] * dz
        for (let c = 0; c <= r; c++) v[6 * r + c] += j[r] * wj[c] + j[6 + r] * wj[6 + c] + j[12 + r] * wj[12 + c]
      }
    }
    factor = cholesky(v, 6)
    if (!factor) return undefined
    const d = choleskySolve(factor, g, 6)
    const next = multiply(fromRotationVector(d[0], d[1], d[2]), pose)
    next[3] = pose[3] + d[3]
    next[7] = pose[7] + d[4]
    next[11] = pose[11] + d[5]
    pose = orthonormalise(next)
    if (Math.abs(d[0]) + Math.abs(d[1]) + Math.abs(d[2]) < 1e-9 && Math.abs(d[3]) + Math.abs(d[4]) + Math.abs(d[5]) < 1e-7) break
  }
  return factor ? { pose, covariance: choleskyInverse(factor, 6) } : undefined
}

/** Pose that brings three places p onto q, exactly in the first, in direction to the second, in plane to the third. Undefined on a line. */
export function posesOfTriangles(
  p: ArrayLike<number>,
  a: number,
  b: number,
  c: number,
  q: ArrayLike<number>,
  d: number,
  e: number,
  f: number,
): Mat4 | undefined {
  const s = axes(p, a, b, c)
  const t = axes(q, d, e, f)
  if (!s || !t) return undefined
  const m = new Float64Array(16)
  for (let r = 0; r < 3; r++) {
    for (let k = 0; k < 3; k++) m[4 * r + k] = t[r] * s[k] + t[3 + r] * s[3 + k] + t[6 + r] * s[6 + k]
    // the middles of both triangles fall together
    m[4 * r + 3] = (q[3 * d + r] + q[3 * e + r] + q[3 * f + r]) / 3
    for (let k = 0; k < 3; k++) m[4 * r + 3] -= (m[4 * r + k] * (p[3 * a + k] + p[3 * b + k] + p[3 * c + k])) / 3
  }
  m[15] = 1
  return m
}

function axes(p: ArrayLike<number>, a: number, b: number, c: number): Float64Array | undefined {
  const out = new Float64Array(9)
  let [x, y, z] = [p[3 * b] - p[3 * a], p[3 * b + 1] - p[3 * a + 1], p[3 * b + 2] - p[3 * a + 2]]
  let l = Math.sqrt(x * x + y * y + z * z)
  if (!(l > 1e-9)) return undefined
  x /= l
  y /= l
  z /= l
  let [u, v, w] = [p[3 * c] - p[3 * a], p[3 * c + 1] - p[3 * a + 1], p[3 * c + 2] - p[3 * a + 2]]
  const along = u * x + v * y + w * z
  u -= along * x
  v -= along * y
  w -= along * z
  l = Math.sqrt(u * u + v * v + w * w)
  if (!(l > 1e-6)) return undefined
  u /= l
  v /= l
  w /= l
  out.set([x, y, z, u, v, w, y * w - z * v, z * u - x * w, x * v - y * u])
  return out
}
