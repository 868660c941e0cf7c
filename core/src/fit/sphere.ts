import { OakError } from '../base/errors.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../base/solve.ts'

export interface SphereFit {
  centre: [number, number, number]
  radius: number
  /** root mean square of the distances to the sphere, mm, and the standard deviation of a point from it (4 unknowns taken off) */
  rms: number
  sigma: number
  /** covariance of x, y, z, r for points of that standard deviation, independent of each other; 4 x 4 row major, mm² */
  covariance: Float64Array
}

/**
 * Least-squares sphere by orthogonal distance: algebraic start, then Gauss-Newton on centre and radius (Forbes 1991). points: 3N mm;
 * fixedRadius: only the centre is solved for. Coordinates are taken from their mean, so that parts far from the origin lose nothing.
 * Throws 'fit-impossible' with fewer than 4 points (3 with fixed radius) or points on a plane or line.
 */
export function fitSphere(points: ArrayLike<number>, fixedRadius?: number): SphereFit {
  const n = Math.floor(points.length / 3)
  const unknowns = fixedRadius === undefined ? 4 : 3
  if (n < unknowns) throw new OakError('fit-impossible', `${n} points do not determine a sphere.`, { remedy: 'Take more points.' })
  const mean = [0, 0, 0]
  for (let i = 0; i < 3 * n; i++) mean[i % 3] += points[i] / n
  const [x0, y0, z0, r0] = algebraic(points, n, mean, fixedRadius)
  let [x, y, z, r] = [x0, y0, z0, r0]
  const m = new Float64Array(16)
  const b = new Float64Array(4)
  let ss = 0
  for (let round = 0; round < 100; round++) {
    m.fill(0)
    b.fill(0)
    ss = 0
    for (let i = 0; i < 3 * n; i += 3) {
      const dx = points[i] - mean[0] - x
      const dy = points[i + 1] - mean[1] - y
      const dz = points[i + 2] - mean[2] - z
      const d = Math.sqrt(dx * dx + dy * dy + dz * dz)
      if (d === 0) continue
      const e = d - r
      ss += e * e
      const j0 = -dx / d
      const j1 = -dy / d
      const j2 = -dz / d
      m[0] += j0 * j0
      m[4] += j0 * j1
      m[5] += j1 * j1
      m[8] += j0 * j2
      m[9] += j1 * j2
      m[10] += j2 * j2
      m[12] -= j0
      m[13] -= j1
      m[14] -= j2
      b[0] -= j0 * e
      b[1] -= j1 * e
      b[2] -= j2 * e
      b[3] += e
    }
    m[15] = n
    const { a, right } = system(m, b, unknowns)
    const l = cholesky(a, unknowns)
    if (!l) throw flat()
    const step = choleskySolve(l, right, unknowns)
    x += step[0]
    y += step[1]
    z += step[2]
    if (unknowns === 4) r += step[3]
    const size = Math.hypot(step[0], step[1], step[2])
    if (!Number.isFinite(size) || size > 1e6 * (r + 1)) throw flat()
    if (size < 1e-12 * (Math.abs(r) + 1)) break
  }
  const { a } = system(m, b, unknowns)
  const l = cholesky(a, unknowns)
  if (!l) throw flat()
  const sigma = Math.sqrt(ss / Math.max(1, n - unknowns))
  const inverse = choleskyInverse(l, unknowns)
  const covariance = new Float64Array(16)
  for (let i = 0; i < unknowns; i++) for (let j = 0; j < unknowns; j++) covariance[4 * i + j] = inverse[unknowns * i + j] * sigma * sigma
  return { centre: [x + mean[0], y + mean[1], z + mean[2]], radius: r, rms: Math.sqrt(ss / n), sigma, covariance }
}

function system(m: Float64Array, b: Float64Array, k: number): { a: Float64Array; right: Float64Array } {
  const a = new Float64Array(k * k)
  for (let i = 0; i < k; i++) for (let j = 0; j <= i; j++) a[k * i + j] = a[k * j + i] = m[4 * i + j]
  return { a, right: b.slice(0, k) }
}

/** Smallest algebraic residual: |p|² = 2 c.p + (r² - |c|²), linear in c and the bracket. */
function algebraic(points: ArrayLike<number>, n: number, mean: number[], fixedRadius?: number): [number, number, number, number] {
  const m = new Float64Array(16)
  const b = new Float64Array(4)
  const row = new Float64Array(4)
  for (let i = 0; i < 3 * n; i += 3) {
    row[0] = points[i] - mean[0]
    row[1] = points[i + 1] - mean[1]
    row[2] = points[i + 2] - mean[2]
    row[3] = 1
    const q = row[0] * row[0] + row[1] * row[1] + row[2] * row[2]
    for (let r = 0; r < 4; r++) {
      b[r] += row[r] * q
      for (let c = 0; c < 4; c++) m[4 * r + c] += row[r] * row[c]
    }
  }
  // columns of like size: coordinates and ones differ by the size of the part
  const s = Math.sqrt(Math.max(1e-300, (m[0] + m[5] + m[10]) / (3 * n)))
  const scale = [1 / s, 1 / s, 1 / s, 1]
  const l = cholesky(
    m.map((v, i) => v * scale[i >> 2] * scale[i & 3]),
    4,
  )
  if (!l || l[0] * l[5] * l[10] < 1e-14 * n ** 1.5) {
    if (fixedRadius !== undefined) return [0, 0, 0, fixedRadius]
    throw flat()
  }
  const v = choleskySolve(
    l,
    b.map((x, i) => x * scale[i]),
    4,
  ).map((x, i) => x * scale[i])
  const c = [v[0] / 2, v[1] / 2, v[2] / 2]
  return [c[0], c[1], c[2], fixedRadius ?? Math.sqrt(Math.max(0, v[3] + c[0] * c[0] + c[1] * c[1] + c[2] * c[2]))]
}

const flat = () =>
  new OakError('fit-impossible', 'The points lie on a plane or a line: no sphere is determined.', { remedy: 'Take points that go further around the sphere.' })
