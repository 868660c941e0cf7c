import { fromRotationVector, multiply, orthonormalise, transformPoint, type Mat4 } from '../base/mat4.ts'
import { OakError } from '../base/errors.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../base/solve.ts'
import { robustSigma } from '../base/stats.ts'
import { freedoms } from './freedom.ts'

/** Numbers of one match: point and normal in a local, point and normal in b local (turned to agree), weight. */
export const MATCH = 13

export interface Matches {
  a: number
  b: number
  /** per match: point and normal in a local, point and normal in b local (turned to agree), weight */
  data: Float64Array
  count: number
}

export interface Solution {
  step: Float64Array
  /** inverse of the normal matrix, for unit variance of a residual; undefined entries of free motions are left out */
  inverse: Float64Array
  hessian: Float64Array
  /** per unknown: 6x6 of its own matches, and their weight, for the freedom analysis */
  own: Float64Array[]
  weight: Float64Array
  /** per unknown: what the noise of the normals alone would hold (see freedoms) */
  noiseHold: Float64Array
  sigma: number
}

const row = new Float64Array(6)
/** of the match last evaluated: 1 - cosine between the normals of both sides */
let disagreement = 0

/** Residual, row and weight of one match at the present poses. */
function evaluate(d: Float64Array, o: number, A: Mat4, B: Mat4, centre: number[], scale: number): number {
  const ax = A[0] * d[o] + A[1] * d[o + 1] + A[2] * d[o + 2] + A[3]
  const ay = A[4] * d[o] + A[5] * d[o + 1] + A[6] * d[o + 2] + A[7]
  const az = A[8] * d[o] + A[9] * d[o + 1] + A[10] * d[o + 2] + A[11]
  const bx = B[0] * d[o + 6] + B[1] * d[o + 7] + B[2] * d[o + 8] + B[3]
  const by = B[4] * d[o + 6] + B[5] * d[o + 7] + B[6] * d[o + 8] + B[7]
  const bz = B[8] * d[o + 6] + B[9] * d[o + 7] + B[10] * d[o + 8] + B[11]
  let nx = A[0] * d[o + 3] + A[1] * d[o + 4] + A[2] * d[o + 5] + B[0] * d[o + 9] + B[1] * d[o + 10] + B[2] * d[o + 11]
  let ny = A[4] * d[o + 3] + A[5] * d[o + 4] + A[6] * d[o + 5] + B[4] * d[o + 9] + B[5] * d[o + 10] + B[6] * d[o + 11]
  let nz = A[8] * d[o + 3] + A[9] * d[o + 4] + A[10] * d[o + 5] + B[8] * d[o + 9] + B[9] * d[o + 10] + B[10] * d[o + 11]
  const l = Math.sqrt(nx * nx + ny * ny + nz * nz)
  disagreement = 2 - (l * l) / 2
  nx /= l
  ny /= l
  nz /= l
  const mx = ((ax + bx) / 2 - centre[0]) / scale
  const my = ((ay + by) / 2 - centre[1]) / scale
  const mz = ((az + bz) / 2 - centre[2]) / scale
  row[0] = my * nz - mz * ny
  row[1] = mz * nx - mx * nz
  row[2] = mx * ny - my * nx
  row[3] = nx
  row[4] = ny
  row[5] = nz
  return (ax - bx) * nx + (ay - by) * ny + (az - bz) * nz
}

/** Residuals of all matches in order, mm. */
export function residuals(all: Matches[], poses: Mat4[], centre: number[], scale: number): Float64Array {
  const total = all.reduce((s, m) => s + m.count, 0)
  const r = new Float64Array(total)
  let k = 0
  for (const m of all) for (let i = 0; i < m.count; i++) r[k++] = evaluate(m.data, MATCH * i, poses[m.a], poses[m.b], centre, scale)
  return r
}

/** One Gauss-Newton step over all unknown poses, with Tukey's weights at the given bound (mm). Throws OakError 'no-overlap'. */
export function solve(all: Matches[], poses: Mat4[], slotOf: number[], m: number, centre: number[], scale: number, bound: number): Solution {
  const r = residuals(all, poses, centre, scale)
  const sigma = Math.max(robustSigma(r), 1e-5)
  const c = Math.max(4.685 * sigma, bound)
  const size = 6 * m
  const h = new Float64Array(size * size)
  const g = new Float64Array(size)
  const own = Array.from({ length: m }, () => new Float64Array(36))
  const weight = new Float64Array(m)
  const noiseHold = new Float64Array(m)
  let k = 0
  for (const match of all) {
    const sa = slotOf[match.a]
    const sb = slotOf[match.b]
    const block = new Float64Array(36)
    const grad = new Float64Array(6)
    let ws = 0
    let apart = 0
    for (let i = 0; i < match.count; i++) {
      const ri = r[k++]
      if (Math.abs(ri) >= c) continue
      const u = 1 - (ri / c) ** 2
      const w = u * u * match.data[MATCH * i + 12]
      evaluate(match.data, MATCH * i, poses[match.a], poses[match.b], centre, scale)
      ws += w
      apart += w * disagreement
      for (let p = 0; p < 6; p++) {
        grad[p] += w * row[p] * ri
        for (let q = p; q < 6; q++) block[6 * p + q] += w * row[p] * row[q]
      }
    }
    for (let p = 0; p < 6; p++) for (let q = 0; q < p; q++) block[6 * p + q] = block[6 * q + p]
    if (sa === sb) continue
    for (const [s, sign] of [
      [sa, 1],
      [sb, -1],
    ] as const) {
      if (s < 0) continue
      weight[s] += ws
      noiseHold[s] += apart / 4
      for (let p = 0; p < 6; p++) {
        g[6 * s + p] += sign * grad[p]
        for (let q = 0; q < 6; q++) {
          h[(6 * s + p) * size + 6 * s + q] += block[6 * p + q]
          own[s][6 * p + q] += block[6 * p + q]
        }
      }
    }
    if (sa >= 0 && sb >= 0)
      for (let p = 0; p < 6; p++)
        for (let q = 0; q < 6; q++) {
          h[(6 * sa + p) * size + 6 * sb + q] -= block[6 * p + q]
          h[(6 * sb + p) * size + 6 * sa + q] -= block[6 * p + q]
        }
  }
  for (let s = 0; s < m; s++) noiseHold[s] /= Math.max(weight[s], 1e-300)
  // motions that nothing holds are stiffened, so that noise does not make them drift
  for (let s = 0; s < m; s++)
    for (const f of freedoms(own[s], weight[s], 1, noiseHold[s]).filter((f) => f.free)) {
      const v = [...f.rotation, ...f.translation]
      for (let p = 0; p < 6; p++) for (let q = 0; q < 6; q++) h[(6 * s + p) * size + 6 * s + q] += weight[s] * v[p] * v[q]
    }
  let mean = 0
  for (let i = 0; i < size; i++) mean += h[i * size + i] / Math.max(1, size)
  for (let i = 0; i < size; i++) h[i * size + i] += 1e-7 * mean + 1e-12
  const l = cholesky(h, size)
  if (size > 0 && !l) throw new OakError('no-overlap', 'The passes do not hold each other in place.', { remedy: 'Record a pass that overlaps both sides.' })
  const step = l ? choleskySolve(l, g, size) : new Float64Array(0)
  return { step, inverse: l ? choleskyInverse(l, size) : new Float64Array(0), hessian: h, own, weight, noiseHold, sigma }
}

/** Moves the poses by -step; gives the largest movement at the part's scale, mm. */
export function applyStep(step: Float64Array, poses: Mat4[], slotOf: number[], centre: number[], scale: number): number {
  let largest = 0
  for (let i = 0; i < poses.length; i++) {
    const s = slotOf[i]
    if (s < 0) continue
    const v = step.subarray(6 * s, 6 * s + 6)
    const d = fromRotationVector(-v[0] / scale, -v[1] / scale, -v[2] / scale)
    const c = transformPoint(d, centre[0], centre[1], centre[2])
    for (let k = 0; k < 3; k++) d[4 * k + 3] = centre[k] - c[k] - v[3 + k]
    poses[i] = orthonormalise(multiply(d, poses[i]))
    for (let k = 0; k < 6; k++) largest = Math.max(largest, Math.abs(v[k]))
  }
  return largest
}
