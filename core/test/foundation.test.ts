import { describe, expect, test } from '@jest/globals'
import { f32, GrowF32, GrowU32, shareF32 } from '../src/base/arrays.ts'
import { Cancelled, inFile, OakError } from '../src/base/errors.ts'
import {
  fromQuaternion,
  fromRotationVector,
  identity,
  invertRigid,
  isIdentity,
  multiply,
  orthonormalise,
  poseDifference,
  rotateVector,
  rotationAngleDeg,
  transformArray,
  transformPoint,
  translation,
} from '../src/base/mat4.ts'
import { randomQuaternion, seeded } from '../src/base/random.ts'
import { checkCancelled, defineKernel, oneThread, quietContext, runKernel, subProgress } from '../src/base/run.ts'
import { quantile, summarise, weightedAbsQuantile } from '../src/base/stats.ts'
import { mortonOrder } from '../src/space/morton.ts'
import { randomPoints } from './help.ts'

describe('poses', () => {
  const random = seeded(21)
  const any = () => fromQuaternion(randomQuaternion(random), [random.gauss() * 50, random.gauss() * 50, random.gauss() * 50])
  test('a turn by vector and by quaternion are the same', () => {
    for (let k = 0; k < 50; k++) {
      const v = [random.gauss(), random.gauss(), random.gauss()]
      const angle = Math.hypot(...v)
      const q = [Math.cos(angle / 2), ...v.map((c) => (c / angle) * Math.sin(angle / 2))]
      const [a, b] = [fromRotationVector(v[0], v[1], v[2], 1, 2, 3), fromQuaternion(q, [1, 2, 3])]
      for (let i = 0; i < 16; i++) expect(a[i]).toBeCloseTo(b[i], 12)
      const turn = angle > Math.PI ? 2 * Math.PI - (angle % (2 * Math.PI)) : angle
      if (angle < Math.PI) expect(rotationAngleDeg(a)).toBeCloseTo((turn * 180) / Math.PI, 8)
    }
  })
  test('go one after the other as they are multiplied, and back by their inverse', () => {
    for (let k = 0; k < 20; k++) {
      const [a, b] = [any(), any()]
      const p = [random.gauss(), random.gauss(), random.gauss()] as const
      const one = transformPoint(multiply(a, b), ...p)
      const two = transformPoint(a, ...transformPoint(b, ...p))
      const back = transformPoint(invertRigid(a), ...transformPoint(a, ...p))
      for (let i = 0; i < 3; i++) expect([one[i], back[i]].map((v, j) => Math.abs(v - (j ? p[i] : two[i])) < 1e-9)).toEqual([true, true])
    }
  })
  test('directions are turned, not shifted, also many at once', () => {
    const m = any()
    const xyz = randomPoints(50, 10, 3)
    const out = transformArray(m, xyz, f32(150), true)
    for (let i = 0; i < 150; i += 3) {
      const want = rotateVector(m, xyz[i], xyz[i + 1], xyz[i + 2])
      for (let k = 0; k < 3; k++) expect(out[i + k]).toBeCloseTo(want[k], 4)
    }
  })
  test('rounding is taken out of a pose that was multiplied a thousand times', () => {
    let m = any()
    for (let k = 0; k < 1000; k++) m = multiply(m, fromRotationVector(0.01, -0.02, 0.03))
    for (let i = 0; i < 11; i++) m[i] *= 1 + 1e-7 * Math.sin(i)
    const r = orthonormalise(m)
    const back = multiply(r, invertRigid(r))
    for (let i = 0; i < 16; i++) expect(back[i]).toBeCloseTo(i % 5 === 0 ? 1 : 0, 13)
  })
  test('the difference of two poses is what it moves the corners of a box', () => {
    const box = [0, 0, 0, 100, 50, 20]
    const d = poseDifference(translation(0.3, 0.4, 0), identity(), box)
    expect([d.rms, d.max, d.angleDeg].map((v) => Math.round(1e9 * v) / 1e9)).toEqual([0.5, 0.5, 0])
    const turned = poseDifference(fromRotationVector(0, 0, 1e-3), identity(), box)
    expect(turned.max).toBeCloseTo(Math.hypot(100, 50) * 1e-3, 5)
    expect(turned.angleDeg).toBeCloseTo(0.0573, 4)
    expect([isIdentity(identity()), isIdentity(translation(0, 0, 1e-9))]).toEqual([true, false])
  })
})

describe('random numbers', () => {
  test('whole ones below a bound come equally often', () => {
    const r = seeded(5)
    const count = new Array<number>(7).fill(0)
    for (let i = 0; i < 70_000; i++) count[r.below(7)]++
    // five standard deviations of a binomial count
    for (const c of count) expect(Math.abs(c - 10_000)).toBeLessThan(5 * Math.sqrt(70_000 * (1 / 7) * (6 / 7)))
  })
  test('turns point everywhere alike: the mean of any rotated axis is nothing', () => {
    const r = seeded(6)
    const sum = [0, 0, 0]
    const n = 20_000
    for (let i = 0; i < n; i++) rotateVector(fromQuaternion(randomQuaternion(r)), 0, 0, 1).forEach((v, k) => (sum[k] += v / n))
    for (const s of sum) expect(Math.abs(s)).toBeLessThan(5 / Math.sqrt(3 * n))
  })
  test('the bell curve: 68.3 % within one standard deviation, 99.7 % within three', () => {
    const r = seeded(7)
    const g = Array.from({ length: 100_000 }, () => Math.abs(r.gauss()))
    expect(g.filter((v) => v < 1).length / 1e5).toBeCloseTo(0.6827, 2)
    expect(g.filter((v) => v < 3).length / 1e5).toBeCloseTo(0.9973, 3)
  })
})

describe('arrays that grow', () => {
  test('hold what was pushed, whatever they began with', () => {
    const a = new GrowF32(2)
    const b = new GrowU32(1)
    for (let i = 0; i < 1000; i++) {
      a.push3(i, i + 0.5, -i)
      b.push(4_000_000_000 - i)
    }
    expect([a.length, b.length, a.at(2998), b.at(999)]).toEqual([3000, 1000, 999.5, 3_999_999_001])
    expect([a.done().length, b.done().length]).toEqual([3000, 1000])
    expect(a.done()[2997]).toBe(999)
    const room = a.reserve(4)
    room[a.length] = 7
    a.length += 1
    expect(a.done().at(-1)).toBe(7)
  })
  test('what is shared already is not copied', () => {
    const s = f32(3)
    expect(shareF32(s)).toBe(s)
    const plain = new Float32Array([1, 2, 3])
    expect([shareF32(plain) === plain, [...shareF32(plain)]]).toEqual([false, [1, 2, 3]])
  })
})

describe('running', () => {
  test('a part of the progress bar', () => {
    const seen: [number, string | undefined][] = []
    const outer = { ...quietContext, progress: (d: number, p?: string) => void seen.push([d, p]) }
    const inner = subProgress(outer, 0.2, 0.6, 'normals')
    inner.progress(0)
    inner.progress(0.5, 'edges')
    subProgress(inner, 0.5, 1).progress(1)
    expect(seen.map(([d, p]) => [Math.round(1e9 * d) / 1e9, p])).toEqual([
      [0.2, 'normals'],
      [0.4, 'edges'],
      [0.6, 'normals'],
    ])
  })
  test('chunks cover the whole range once, and progress ends at one', async () => {
    const seen: [number, number][] = []
    const done: number[] = []
    const kernel = defineKernel('test.cover', (_: object, s: number, e: number) => void seen.push([s, e]))
    await oneThread.map(kernel, {}, 25, 10, quietContext, (d) => done.push(d))
    expect(seen).toEqual([
      [0, 10],
      [10, 20],
      [20, 25],
    ])
    expect(done.at(-1)).toBe(1)
    expect(await oneThread.map(kernel, {}, 0, 10, quietContext)).toEqual([])
    expect(() => runKernel('test.none', {}, 0, 1)).toThrow('not loaded')
  })
  test('cancelled is a word of its own, and no file is put before it', () => {
    expect(() => checkCancelled({ ...quietContext, signal: { aborted: true } })).toThrow(Cancelled)
    const c = new Cancelled()
    expect(inFile('a.ply', c)).toBe(c)
    const named = inFile('a.ply', new OakError('x', 'y', { where: 'line 3' })) as OakError
    expect(named.where).toBe('a.ply, line 3')
    expect(inFile('a.ply', named)).toBe(named)
    const other = new Error('z')
    expect(inFile('a.ply', other)).toBe(other)
  })
})

describe('statistics by weight', () => {
  test('a value of weight three counts as three values', () => {
    const values = [0.1, -0.2, 0.3, -0.4, 0.5]
    const weights = [3, 1, 2, 1, 3]
    const spread = values.flatMap((v, i) => new Array<number>(weights[i]).fill(v))
    const [a, b] = [summarise(values, weights), summarise(spread)]
    for (const k of ['mean', 'rms', 'std', 'min', 'max'] as const) expect(a[k]).toBeCloseTo(b[k], 12)
    for (const q of [0.2, 0.5, 0.95]) expect(weightedAbsQuantile(values, weights, q)).toBeCloseTo(weightedAbsQuantile(spread, undefined, q), 6)
    expect(quantile(spread.map(Math.abs), 1)).toBe(0.5)
  })
  test('nothing, and nothing but gaps', () => {
    expect(summarise([]).count).toBe(0)
    expect(weightedAbsQuantile([Number.NaN], undefined, 0.5)).toBeNaN()
    expect(weightedAbsQuantile([0, 0, 0], undefined, 0.95)).toBe(0)
  })
})

describe('an order along a Z curve', () => {
  test('holds every point once, and neighbours in it are near each other', () => {
    const n = 4000
    const xyz = randomPoints(n, 100, 8)
    const order = mortonOrder(xyz)
    expect(new Set(order).size).toBe(n)
    const step = (i: number, j: number) => Math.hypot(...[0, 1, 2].map((k) => xyz[3 * i + k] - xyz[3 * j + k]))
    let [along, asTheyCome] = [0, 0]
    for (let i = 1; i < n; i++) {
      along += step(order[i], order[i - 1]) / n
      asTheyCome += step(i, i - 1) / n
    }
    expect(along).toBeLessThan(asTheyCome / 5)
  })
  test('of points in one place, and of none', () => {
    expect([...mortonOrder(new Float32Array(9))].sort()).toEqual([0, 1, 2])
    expect(mortonOrder(new Float32Array(0)).length).toBe(0)
  })
})
