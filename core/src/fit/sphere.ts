import { OakError } from '../base/errors.ts'
import { cholesky, choleskySolve } from '../base/solve.ts'
import { leastSquares, type LeastSquaresFit } from './leastsquares.ts'

/** of the first radius: a centre beyond that is one of a plane */
const FAR = 1e6

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
 * Least-squares sphere by orthogonal distance: algebraic start, then on centre and radius (Forbes 1991). points: 3N mm;
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
  const from = unknowns === 4 ? [x0, y0, z0, r0] : [x0, y0, z0]
  let f: LeastSquaresFit
  try {
    f = leastSquares(
      {
        count: n,
        at(p, i, slope) {
          const dx = points[3 * i] - mean[0] - p[0]
          const dy = points[3 * i + 1] - mean[1] - p[1]
          const dz = points[3 * i + 2] - mean[2] - p[2]
          const d = Math.sqrt(dx * dx + dy * dy + dz * dz)
          const inverse = d > 0 ? 1 / d : 0
          slope[0] = -dx * inverse
          slope[1] = -dy * inverse
          slope[2] = -dz * inverse
          if (unknowns === 4) slope[3] = -1
          return d - (fixedRadius ?? p[3])
        },
      },
      from,
    )
  } catch (e) {
    throw e instanceof OakError ? flat() : e
  }
  const [x, y, z] = f.parameters
  const radius = fixedRadius ?? f.parameters[3]
  if (!(Math.hypot(x, y, z) < FAR * (r0 + 1)) || !(radius > 0)) throw flat()
  const covariance = new Float64Array(16)
  for (let i = 0; i < unknowns; i++) for (let j = 0; j < unknowns; j++) covariance[4 * i + j] = f.covariance[unknowns * i + j]
  return { centre: [x + mean[0], y + mean[1], z + mean[2]], radius, rms: Math.sqrt(f.sum / n), sigma: f.sigma, covariance }
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
