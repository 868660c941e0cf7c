import { OakError } from '../base/errors.ts'

/** What is to be made least: half the sum of squared residuals over the parameters. */
export interface Residuals {
  /** number of residuals */
  count: number
  /** residual i at the parameters p; its derivatives by them go into `slope` */
  at(p: Float64Array, i: number, slope: Float64Array): number
}

export interface LeastSquaresFit {
  parameters: Float64Array
  /** sum of squared residuals, and the standard deviation of one (parameters taken off) */
  sum: number
  sigma: number
  /** P x P row major: of the parameters for independent residuals of that standard deviation */
  covariance: Float64Array
  rounds: number
  /** false where the rounds ran out */
  settled: boolean
}

/** of the scale: damping of the first step */
const FIRST = 1e-3
/** of the sum: a step that foresees no more gain than that is one of the last */
const NEAR = 1e-12

/**
 * Nonlinear least squares (Levenberg 1944; Marquardt 1963), the damping by the gain of each step (Nielsen 1999), columns scaled by their largest length so far (More 1978).
 * Each step is solved by an orthogonal factorisation (Householder 1958) of as many rows as there are parameters and one block more at a time: the memory stays flat, and no figure is lost to
 * squaring the equations. Residuals and slopes in any unit; parameters may differ in size by any factor.
 * Throws OakError 'fit-impossible' where residuals are fewer than parameters, are no numbers at the start, or leave a parameter open.
 *
 * Measured (NIST StRD, 17 sets, core/test/leastsquares.test.ts, slopes by differences): from 32 of 34 starts the certified values to seven figures and more, mostly ten; from the far starts
 * of BoxBOD and MGH17 it is not settled, and says so. Tried: scales that fall again with their columns (Marquardt), lost Eckerle4 and MGH17; a first damping of 0.1 to 10, no better.
 */
export function leastSquares(f: Residuals, start: ArrayLike<number>, options: { rounds?: number; tolerance?: number } = {}): LeastSquaresFit {
  const { rounds: most = 500, tolerance = 1e-13 } = options
  const k = start.length
  if (f.count < k) throw new OakError('fit-impossible', `${f.count} values do not determine ${k} unknowns.`, { remedy: 'Take more points.' })
  let p = Float64Array.from(start)
  let triangle = new Triangle(k)
  let next = new Triangle(k)
  let sum = triangle.load(f, p)
  if (!Number.isFinite(sum)) throw new OakError('fit-impossible', 'The start of the fit has no value.', { remedy: 'Begin nearer to the answer.' })
  const scale = new Float64Array(k)
  const widen = () => {
    for (let a = 0; a < k; a++) scale[a] = Math.max(scale[a], triangle.columnLength(a))
  }
  widen()
  let damping = FIRST
  let worse = 2
  let before = Infinity
  let settled = false
  let rounds = 0
  for (; rounds < most && !settled; rounds++) {
    const step = triangle.solve(Float64Array.from(scale, (s) => Math.sqrt(damping) * (s || 1)))
    const q = p.map((v, a) => v + step[a])
    const foreseen = triangle.gain(step)
    const after = next.load(f, q)
    // below that the sum is rounding, and the steps are better than it
    const near = foreseen <= NEAR * sum
    if (Number.isFinite(after) && after <= (near ? (1 + NEAR) * sum : sum)) {
      // near the end steps shrink until rounding makes them
      const size = step.reduce((s, v, a) => Math.max(s, Math.abs(v / (q[a] || 1))), 0)
      settled = after === 0 || size <= tolerance || (near && size > 0.7 * before)
      before = near ? size : Infinity
      const share = near ? 1 : (sum - after) / foreseen
      p = q
      sum = after
      ;[triangle, next] = [next, triangle]
      widen()
      damping *= near ? 1e-4 : Math.max(1 / 3, 1 - (2 * Math.min(1, share) - 1) ** 3)
      worse = 2
    } else {
      settled = near
      damping *= worse
      worse *= 2
      if (!Number.isFinite(damping)) break
    }
  }
  const inverse = triangle.inverse()
  if (!inverse)
    throw new OakError('fit-impossible', 'The values leave an unknown open.', { remedy: 'Take values that tell more, or hold one of the unknowns.' })
  const variance = sum / Math.max(1, f.count - k)
  return { parameters: p, sum, sigma: Math.sqrt(variance), covariance: inverse.map((v) => v * variance), rounds, settled }
}

/** Slopes of residuals that nobody has written down, by central differences: some ten figures. */
export function byDifferences(count: number, residual: (p: Float64Array, i: number) => number): Residuals {
  return {
    count,
    at(p, i, slope) {
      for (let a = 0; a < slope.length; a++) {
        const here = p[a]
        const h = Math.cbrt(Number.EPSILON) * (Math.abs(here) || 1e-3)
        p[a] = here + h
        const [up, above] = [p[a], residual(p, i)]
        p[a] = here - h
        slope[a] = (above - residual(p, i)) / (up - p[a])
        p[a] = here
      }
      return residual(p, i)
    },
  }
}

const BLOCK = 64

/** The upper triangle of the slopes and the residuals, in the last column, turned with them. */
class Triangle {
  private readonly k: number
  private readonly w: number
  /** (k + BLOCK) rows of k + 1 */
  private readonly a: Float64Array
  private r: Float64Array
  constructor(k: number) {
    this.k = k
    this.w = k + 1
    this.a = new Float64Array((k + 1 + BLOCK) * (k + 1))
    this.r = new Float64Array((k + 1) * (k + 1))
  }

  /** Sum of squared residuals at p. */
  load(f: Residuals, p: Float64Array): number {
    const { k, w, a } = this
    a.fill(0)
    const slope = new Float64Array(k)
    let sum = 0
    for (let i = 0; i < f.count;) {
      const rows = Math.min(BLOCK, f.count - i)
      for (let b = 0; b < rows; b++, i++) {
        const e = f.at(p, i, slope)
        sum += e * e
        const o = (w + b) * w
        for (let c = 0; c < k; c++) a[o + c] = slope[c]
        a[o + k] = e
      }
      fold(a, w, w + rows)
    }
    this.r = a.slice(0, w * w)
    return sum
  }

  columnLength(c: number): number {
    let s = 0
    for (let i = 0; i <= c; i++) s += this.r[i * this.w + c] ** 2
    return Math.sqrt(s)
  }

  /** The step that makes the linear model's sum least, each parameter held back by `hold`. */
  solve(hold: Float64Array): Float64Array {
    const { k, w } = this
    const a = new Float64Array((w + k) * w)
    a.set(this.r)
    for (let i = 0; i < k; i++) a[(w + i) * w + i] = hold[i]
    fold(a, w, w + k)
    const x = new Float64Array(k)
    for (let i = k - 1; i >= 0; i--) {
      let s = -a[i * w + k]
      for (let j = i + 1; j < k; j++) s -= a[i * w + j] * x[j]
      x[i] = a[i * w + i] === 0 ? 0 : s / a[i * w + i]
    }
    return x
  }

  /** By how much the linear model's sum falls with a step. */
  gain(x: Float64Array): number {
    const { k, w, r } = this
    let g = 0
    for (let i = 0; i < k; i++) {
      let s = 0
      for (let j = i; j < k; j++) s += r[i * w + j] * x[j]
      g -= s * (s + 2 * r[i * w + k])
    }
    return g
  }

  /** Of the squared slopes; nothing where a column hangs on the others. */
  inverse(): Float64Array | undefined {
    const { k, w, r } = this
    const u = new Float64Array(k * k)
    for (let c = 0; c < k; c++) {
      if (!(Math.abs(r[c * w + c]) > 1e-14 * this.columnLength(c))) return undefined
      for (let i = c; i >= 0; i--) {
        let s = i === c ? 1 : 0
        for (let j = i + 1; j <= c; j++) s -= r[i * w + j] * u[j * k + c]
        u[i * k + c] = s / r[i * w + i]
      }
    }
    const out = new Float64Array(k * k)
    for (let i = 0; i < k; i++) for (let j = 0; j < k; j++) for (let c = Math.max(i, j); c < k; c++) out[i * k + j] += u[i * k + c] * u[j * k + c]
    return out
  }
}

/** Householder reflections make the first w of `rows` rows of w numbers an upper triangle, and the rest nothing. */
function fold(a: Float64Array, w: number, rows: number): void {
  for (let c = 0; c < w; c++) {
    let s = 0
    for (let i = c; i < rows; i++) s += a[i * w + c] ** 2
    if (s === 0) continue
    const head = a[c * w + c]
    const l = head > 0 ? -Math.sqrt(s) : Math.sqrt(s)
    const v0 = head - l
    const beta = 1 / (l * v0)
    for (let j = c + 1; j < w; j++) {
      let d = v0 * a[c * w + j]
      for (let i = c + 1; i < rows; i++) d += a[i * w + c] * a[i * w + j]
      d *= beta
      a[c * w + j] += d * v0
      for (let i = c + 1; i < rows; i++) a[i * w + j] += d * a[i * w + c]
    }
    a[c * w + c] = l
    for (let i = c + 1; i < rows; i++) a[i * w + c] = 0
  }
}
