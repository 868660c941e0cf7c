import { describe, expect, test } from '@jest/globals'
import { OakError } from '../src/base/errors.ts'
import { byDifferences, leastSquares, type Residuals } from '../src/fit/leastsquares.ts'
import { fixtureJson } from './help.ts'

const { exp } = Math
type Model = (b: Float64Array, x: number) => number
const lanczos: Model = (b, x) => b[0] * exp(-b[1] * x) + b[2] * exp(-b[3] * x) + b[4] * exp(-b[5] * x)
const gauss: Model = (b, x) => b[0] * exp(-b[1] * x) + b[2] * exp(-((x - b[3]) ** 2) / b[4] ** 2) + b[5] * exp(-((x - b[6]) ** 2) / b[7] ** 2)
const rational: Model = (b, x) => (b[0] + x * (b[1] + x * (b[2] + x * b[3]))) / (1 + x * (b[4] + x * (b[5] + x * b[6])))
const MODELS: Record<string, Model> = {
  BoxBOD: (b, x) => b[0] * (1 - exp(-b[1] * x)),
  Chwirut2: (b, x) => exp(-b[0] * x) / (b[1] + b[2] * x),
  DanWood: (b, x) => b[0] * x ** b[1],
  Eckerle4: (b, x) => (b[0] / b[1]) * exp(-0.5 * ((x - b[2]) / b[1]) ** 2),
  Gauss1: gauss,
  Gauss2: gauss,
  Hahn1: rational,
  Lanczos1: lanczos,
  Lanczos2: lanczos,
  Lanczos3: lanczos,
  MGH09: (b, x) => (b[0] * (x * x + x * b[1])) / (x * x + x * b[2] + b[3]),
  MGH17: (b, x) => b[0] + b[1] * exp(-x * b[3]) + b[2] * exp(-x * b[4]),
  Misra1a: (b, x) => b[0] * (1 - exp(-b[1] * x)),
  Misra1b: (b, x) => b[0] * (1 - (1 + (b[1] * x) / 2) ** -2),
  Misra1c: (b, x) => b[0] * (1 - (1 + 2 * b[1] * x) ** -0.5),
  Rat42: (b, x) => b[0] / (1 + exp(b[1] - b[2] * x)),
  Thurber: rational,
}

const FAR = new Set(['BoxBOD 1', 'MGH17 1'])
const fitted = <T>(run: () => T): T | undefined => {
  try {
    return run()
  } catch (e) {
    if (e instanceof OakError && e.code === 'fit-impossible') return undefined
    throw e
  }
}

describe('nonlinear reference sets of NIST (StRD, eleven certified figures), slopes by differences', () => {
  const { sets } = fixtureJson('fits/nist_nonlinear.json') as {
    sets: Record<string, { start1: number[]; start2: number[]; certified: number[]; certified_sd: number[]; rss: number; data: number[][] }>
  }
  test.each(Object.keys(sets).flatMap((name) => [1, 2].map((from) => [name, from] as const)))('%s from start %i', (name, from) => {
    const s = sets[name]
    const f = fitted(() =>
      leastSquares(
        byDifferences(s.data.length, (p, i) => MODELS[name](p, s.data[i][1]) - s.data[i][0]),
        from === 1 ? s.start1 : s.start2,
      ),
    )
    // far starts that this method does not come from, as it says itself
    if (FAR.has(`${name} ${from}`)) {
      expect(f?.settled ?? false).toBe(false)
      return
    }
    if (!f) throw new Error('refused')
    expect(f.settled).toBe(true)
    s.certified.forEach((c, a) => expect(Math.abs(f.parameters[a] / c - 1)).toBeLessThan(1e-7))
    // the residuals of Lanczos1 are rounding
    const loose = name === 'Lanczos1' ? 1e-2 : 1e-6
    s.certified_sd.forEach((c, a) => expect(Math.abs(Math.sqrt(f.covariance[a * s.certified.length + a]) / c - 1)).toBeLessThan(loose))
    expect(Math.abs(f.sum / s.rss - 1)).toBeLessThan(loose)
  })
})

describe('what it takes and what it refuses', () => {
  // a line through three and more points, slopes known
  const line = (x: number[], y: number[]): Residuals => ({
    count: x.length,
    at(p, i, slope) {
      slope[0] = 1
      slope[1] = x[i]
      return p[0] + p[1] * x[i] - y[i]
    },
  })
  test('a line is its closed formula, with its covariance', () => {
    const x = [1, 2, 4, 7, 11]
    const y = [2.2, 2.9, 5.1, 7.8, 12.4]
    const f = leastSquares(line(x, y), [0, 0])
    const mean = (v: number[]) => v.reduce((a, b) => a + b, 0) / v.length
    const sxx = x.reduce((s, v) => s + (v - mean(x)) ** 2, 0)
    const slope = x.reduce((s, v, i) => s + (v - mean(x)) * (y[i] - mean(y)), 0) / sxx
    expect(f.parameters[1]).toBeCloseTo(slope, 12)
    expect(f.parameters[0]).toBeCloseTo(mean(y) - slope * mean(x), 12)
    expect(f.covariance[3]).toBeCloseTo(f.sigma ** 2 / sxx, 12)
    expect(f.covariance[1]).toBe(f.covariance[2])
  })
  test('a hundred thousand rows, and a parameter a million times another, cost no figure', () => {
    const x = Float64Array.from({ length: 100_000 }, (_, i) => i * 1e6)
    const f = leastSquares(
      line(
        Array.from(x),
        Array.from(x, (v) => 3 + 2e-6 * v),
      ),
      [0, 0],
    )
    expect(Math.abs(f.parameters[0] - 3)).toBeLessThan(1e-8)
    expect(Math.abs(f.parameters[1] / 2e-6 - 1)).toBeLessThan(1e-12)
  })
  test('too few values, no number at the start, an unknown left open', () => {
    const code = (run: () => unknown) => {
      try {
        run()
      } catch (e) {
        return (e as OakError).code
      }
      return 'none'
    }
    expect(code(() => leastSquares(line([1], [1]), [0, 0]))).toBe('fit-impossible')
    expect(code(() => leastSquares(line([1, 2, NaN], [1, 2, 3]), [0, 0]))).toBe('fit-impossible')
    expect(code(() => leastSquares(line([2, 2, 2], [1, 2, 3]), [0, 0]))).toBe('fit-impossible')
  })
})
