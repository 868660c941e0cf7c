import { describe, expect, test } from '@jest/globals'
import { fromRotationVector, identity, poseDifference } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { inFlight, quietContext } from '../src/base/run.ts'
import { cholesky, choleskyInverse, choleskyInverseInside, choleskySolve } from '../src/base/solve.ts'
import { adjustJointly } from '../src/align/joint.ts'
import { choosePartners, narrowOrder, PARTNERS } from '../src/align/partners.ts'
import type { Matches } from '../src/align/match.ts'
import { boundingBox } from '../src/shape/points.ts'
import { plateViews } from './shapes.ts'

/** A chain of n passes, each sharing surface with its neighbours, less the further off. */
const chain = (n: number, reach: number): Matches[] => {
  const out: Matches[] = []
  for (let a = 0; a < n; a++) for (let b = a + 1; b <= Math.min(n - 1, a + reach); b++) out.push({ a, b, count: 100 - (b - a), data: new Float64Array(0) })
  return out
}
/** Positive definite, with a band of `half` beside the diagonal and full last rows. */
function banded(n: number, half: number, last: number): Float64Array {
  const r = seeded(5)
  const a = new Float64Array(n * n)
  for (let i = 0; i < n; i++) for (let j = 0; j < i; j++) if (i - j <= half || i >= n - last) a[i * n + j] = a[j * n + i] = r.gauss()
  for (let i = 0; i < n; i++) a[i * n + i] = 4 * n
  return a
}

describe('very many passes', () => {
  test('equations with zeros: the factor keeps the envelope, solution and inverse are those of the whole', () => {
    const n = 60
    const a = banded(n, 4, 6)
    const l = cholesky(a, n) as Float64Array
    // nothing has come where nothing was
    expect(l[30 * n + 20]).toBe(0)
    const b = Float64Array.from({ length: n }, (_, i) => Math.sin(i))
    const x = choleskySolve(l, b, n)
    for (let i = 0; i < n; i++) {
      let s = 0
      for (let j = 0; j < n; j++) s += a[i * n + j] * x[j]
      expect(s).toBeCloseTo(b[i], 12)
    }
    const inverse = choleskyInverse(l, n)
    const inside = choleskyInverseInside(l, n)
    let compared = 0
    for (let i = 0; i < n; i++) {
      let one = 0
      for (let j = 0; j < n; j++) one += a[i * n + j] * inverse[j * n + i]
      expect(one).toBeCloseTo(1, 12)
      for (let j = 0; j <= i; j++)
        if (a[i * n + j] !== 0) {
          expect(inside[i * n + j]).toBeCloseTo(inverse[i * n + j], 14)
          compared++
        }
    }
    expect(compared).toBeGreaterThan(500)
  })
  test('each is compared with some partners, and no chain is cut', () => {
    const n = 40
    const wanted = choosePartners(n, chain(n, 15), new Int32Array(n))
    let most = 0
    for (let a = 0; a < n; a++) {
      const own = wanted.subarray(a * n, (a + 1) * n).reduce((s, v) => s + v, 0)
      expect(own).toBeGreaterThanOrEqual(PARTNERS)
      most = Math.max(most, own)
      for (let b = 0; b < n; b++) expect(wanted[a * n + b]).toBe(wanted[b * n + a])
    }
    expect(most).toBeLessThan(3 * PARTNERS)
    // two clouds of passes that only one weak pair ties together
    const weak = [...chain(20, 10), ...chain(20, 10).map((m) => ({ ...m, a: m.a + 20, b: m.b + 20 })), { a: 3, b: 31, count: 2, data: new Float64Array(0) }]
    expect(choosePartners(40, weak, new Int32Array(40))[3 * 40 + 31]).toBe(1)
    // and each setup is tied to the other though passes of the own share more
    const two = choosePartners(
      40,
      [...weak, ...Array.from({ length: 20 }, (_, i) => ({ a: i, b: i + 20, count: 5, data: new Float64Array(0) }))],
      Int32Array.from({ length: 40 }, (_, i) => Math.floor(i / 20)),
    )
    for (let i = 0; i < 20; i++) expect(two[i * 40 + i + 20]).toBe(1)
  })
  test('the order keeps partners together, whatever order they came in', () => {
    const n = 60
    const r = seeded(9)
    const shuffled = Array.from({ length: n }, (_, i) => i).sort(() => r.next() - 0.5)
    const wanted = new Uint8Array(n * n)
    for (let i = 0; i + 1 < n; i++) wanted[shuffled[i] * n + shuffled[i + 1]] = wanted[shuffled[i + 1] * n + shuffled[i]] = 1
    const order = narrowOrder(n, wanted)
    expect([...order].sort((a, b) => a - b)).toEqual(Array.from({ length: n }, (_, i) => i))
    const place = new Int32Array(n)
    order.forEach((p, i) => (place[p] = i))
    for (let i = 0; i + 1 < n; i++) expect(Math.abs(place[shuffled[i]] - place[shuffled[i + 1]])).toBe(1)
  })
  test('some are under way at a time, never more; results keep their order; one that fails fails all', async () => {
    let open = 0
    let most = 0
    const r = await inFlight([5, 1, 4, 2, 3], 2, async (ms, i) => {
      most = Math.max(most, ++open)
      await new Promise((done) => setTimeout(done, ms))
      open--
      return 10 * i + ms
    })
    expect(r).toEqual([5, 11, 24, 32, 43])
    expect(most).toBe(2)
    await expect(inFlight([1, 2], 2, (v) => (v === 2 ? Promise.reject(new Error('no')) : Promise.resolve(v)))).rejects.toThrow('no')
    // and what was not begun is left alone
    const begun: number[] = []
    const failing = inFlight([0, 1, 2, 3, 4, 5], 2, async (v) => {
      begun.push(v)
      await Promise.resolve()
      if (v === 0) throw new Error('first')
      await new Promise((done) => setTimeout(done, 5))
    })
    await expect(failing).rejects.toThrow('first')
    await new Promise((done) => setTimeout(done, 30))
    expect(begun).toEqual([0, 1])
  })
  test('eighteen looks at a plate, more than are compared with one another, come home within what is stated', async () => {
    const r = seeded(12)
    const views = await plateViews(18, 0.02, 0.6)
    const off = () => fromRotationVector(4e-4 * r.gauss(), 4e-4 * r.gauss(), 4e-4 * r.gauss(), 0.05 * r.gauss(), 0.05 * r.gauss(), 0.05 * r.gauss())
    const placed = views.map((v, i) => (i === 0 ? v : { ...v, pose: off() }))
    const joint = await adjustJointly(placed, { setups: placed.map((_, i) => Math.floor(i / 9)) }, quietContext)
    placed.forEach((p, i) => {
      if (i === 0) return
      const left = poseDifference(identity(), joint.poses[i], boundingBox(p.data.xyz)).rms
      expect(left).toBeLessThan(0.02)
      expect(left / joint.passes[i].sigma).toBeLessThan(2.5)
    })
    // not all pairs: eighteen passes have 153
    expect(joint.pairs.length).toBeLessThan(110)
    expect(joint.free).toEqual([])
  }, 60_000)
})
