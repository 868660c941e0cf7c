import { jacobiEigen, smallestEigen3 } from '../src/base/eigen.ts'
import { fromQuaternion, fromRotationVector, invertRigid, motionTimes, multiply, rotationAngleDeg, transformPoint } from '../src/base/mat4.ts'
import { randomQuaternion, seeded } from '../src/base/random.ts'
import { cholesky, choleskyInverse, choleskySolve } from '../src/base/solve.ts'
import { median, quantile, robustSigma, select, summarise, weightedAbsQuantile } from '../src/base/stats.ts'

test('a motion done some times over: half of it twice, and three times, is what it is one after the other', () => {
  const close = (a: ArrayLike<number>, b: ArrayLike<number>) => Array.from(a).forEach((v, i) => expect(v).toBeCloseTo(b[i], 6))
  const r = seeded(11)
  for (let k = 0; k < 40; k++) {
    const m = fromRotationVector(r.gauss() * 0.5, r.gauss() * 0.5, r.gauss() * 0.5, 100 * r.gauss(), 100 * r.gauss(), 100 * r.gauss())
    const half = motionTimes(m, 0.5)
    close(multiply(half, half), m)
    close(motionTimes(m, 3), multiply(m, multiply(m, m)))
    close(motionTimes(m, -1), invertRigid(m))
  }
  close(motionTimes(fromRotationVector(0, 0, 0, 2, 4, 6), 1.5), fromRotationVector(0, 0, 0, 3, 6, 9))
  close(motionTimes(fromRotationVector(0, 0, 1e-8, 2, 4, 6), 2), fromRotationVector(0, 0, 2e-8, 4, 8, 12))
  // about an axis through (10, 0, 0): a full turn in four
  const quarter = fromRotationVector(0, 0, Math.PI / 2, 10, -10, 0)
  expect(transformPoint(motionTimes(quarter, 2), 0, 0, 0).map((v) => Math.round(v * 1e9) / 1e9)).toEqual([20, 0, 0])
})

describe('statistics', () => {
  test('selection agrees with sorting', () => {
    const r = seeded(1)
    for (let n = 1; n < 60; n++) {
      const a = Float64Array.from({ length: n }, () => Math.floor(r.next() * 20))
      const sorted = a.slice().sort()
      for (const k of [0, n >> 1, n - 1]) expect(select(a.slice(), k)).toBe(sorted[k])
    }
  })
  test('median, quantile and robust deviation of a known sample', () => {
    expect(median([3, 1, 2])).toBe(2)
    expect(quantile([0, 1, 2, 3, 4], 0.75)).toBe(3)
    expect(Number.isNaN(median([]))).toBe(true)
    const r = seeded(2)
    const sample = Array.from({ length: 20000 }, (_, i) => (i % 10 === 0 ? 1000 : r.gauss() * 0.03))
    expect(robustSigma(sample)).toBeGreaterThan(0.03)
    expect(robustSigma(sample)).toBeLessThan(0.037)
  })
  test('weights count, NaN does not', () => {
    const s = summarise([1, -1, Number.NaN, 3], [1, 1, 5, 2])
    expect(s.count).toBe(3)
    expect(s.mean).toBeCloseTo(6 / 4, 12)
    expect(s.rms).toBeCloseTo(Math.sqrt(20 / 4), 12)
    expect([s.min, s.max]).toEqual([-1, 3])
  })
  test('weighted quantile of a uniform sample', () => {
    const v = Array.from({ length: 10001 }, (_, i) => (i / 10000) * (i % 2 ? 1 : -1))
    expect(weightedAbsQuantile(v, undefined, 0.95)).toBeCloseTo(0.95, 3)
  })
  test('the same seed gives the same numbers, with the right mean and spread', () => {
    const [a, b] = [seeded(4), seeded(4)]
    const s = summarise(Array.from({ length: 50000 }, () => a.gauss()))
    expect(Math.abs(s.mean)).toBeLessThan(0.02)
    expect(s.std).toBeCloseTo(1, 1)
    for (let i = 0; i < 50000; i++) b.gauss()
    expect(a.next()).toBe(b.next())
  })
})

describe('matrices', () => {
  test('closed-form smallest eigenvector agrees with Jacobi', () => {
    const r = seeded(3)
    const out = new Float64Array(6)
    for (let k = 0; k < 500; k++) {
      const p = Array.from({ length: 12 }, () => r.gauss())
      const m = [0, 0, 0, 0, 0, 0]
      for (let i = 0; i < 12; i += 3) {
        m[0] += p[i] * p[i]
        m[1] += p[i] * p[i + 1]
        m[2] += p[i] * p[i + 2]
        m[3] += p[i + 1] * p[i + 1]
        m[4] += p[i + 1] * p[i + 2]
        m[5] += p[i + 2] * p[i + 2]
      }
      smallestEigen3(m[0], m[1], m[2], m[3], m[4], m[5], out)
      const e = jacobiEigen([m[0], m[1], m[2], m[1], m[3], m[4], m[2], m[4], m[5]], 3)
      expect(out[3]).toBeCloseTo(e.values[0], 8)
      const dot = out[0] * e.vectors[0] + out[1] * e.vectors[3] + out[2] * e.vectors[6]
      expect(Math.abs(dot)).toBeCloseTo(1, 6)
    }
  })
  test('points on a line and in one place do not break it', () => {
    const out = new Float64Array(6)
    smallestEigen3(4, 0, 0, 0, 0, 0, out)
    expect(Math.abs(out[0])).toBeLessThan(1e-6)
    expect(Math.hypot(out[0], out[1], out[2])).toBeCloseTo(1, 9)
    smallestEigen3(0, 0, 0, 0, 0, 0, out)
    expect(Math.hypot(out[0], out[1], out[2])).toBe(1)
  })
  test('Cholesky solves and inverts, and refuses what is not positive definite', () => {
    const a = [4, 2, 0.6, 2, 5, 1, 0.6, 1, 3]
    const l = cholesky(a, 3) as Float64Array
    const x = choleskySolve(l, [1, 2, 3], 3)
    for (let i = 0; i < 3; i++) expect(a[3 * i] * x[0] + a[3 * i + 1] * x[1] + a[3 * i + 2] * x[2]).toBeCloseTo(i + 1, 12)
    const inv = choleskyInverse(l, 3)
    expect(a[0] * inv[0] + a[1] * inv[3] + a[2] * inv[6]).toBeCloseTo(1, 12)
    expect(cholesky([1, 2, 2, 1], 2)).toBeUndefined()
  })
  test('poses: inverse, composition, tiny angles', () => {
    const r = seeded(8)
    const a = fromQuaternion(randomQuaternion(r), [1, 2, 3])
    const back = multiply(a, invertRigid(a))
    for (let i = 0; i < 16; i++) expect(back[i]).toBeCloseTo(i % 5 === 0 ? 1 : 0, 12)
    expect(rotationAngleDeg(fromRotationVector(0, 1e-7, 0))).toBeCloseTo((1e-7 * 180) / Math.PI, 12)
    expect(transformPoint(fromRotationVector(0, 0, Math.PI / 2, 5, 0, 0), 1, 0, 0).map((v) => Math.round(v * 1e9) / 1e9)).toEqual([5, 1, 0])
  })
})
