import { describe, expect, it } from '@jest/globals'
import { inSpans, orderedSpans, timelineOf } from '../src/capture/timeline.ts'

describe('the course of a recording', () => {
  const of = (n: number, every: number) => ({
    times: Array.from({ length: n }, (_, k) => k * every),
    fates: Array.from({ length: n }, (_, k) => (k % 10 === 9 ? 2 : 0)),
    sigmas: Array.from({ length: n }, (_, k) => (k % 10 === 9 ? NaN : k / n)),
    known: Array.from({ length: n }, (_, k) => (k % 10 === 9 ? 0 : 10 * (k + 1))),
  })
  it('is told in parts of equal length: rate, shares, how well frames are held, what is known', () => {
    const line = timelineOf(of(3000, 0.05))
    expect([line.seconds, line.rate.length]).toEqual([149.95, 200])
    expect(line.rate.every((r) => Math.abs(r - 20) < 1.5)).toBe(true)
    expect(line.shares.placed.reduce((a, b) => a + b, 0) / 200).toBeCloseTo(0.9, 2)
    expect([line.shares.weak, line.shares.late, line.shares.out]).toEqual([[], [], []])
    // medians grow with time, and what is known never shrinks
    expect(line.sigma.every((s, k) => k === 0 || s! > line.sigma[k - 1]!)).toBe(true)
    expect([line.known.at(-1), line.known.every((v, k) => k === 0 || v >= line.known[k - 1])]).toEqual([29_990, true])
  })
  it('a gap has the rate 0 and no shares; a single frame, or none, is a line too', () => {
    const f = of(200, 0.1)
    for (let k = 100; k < 200; k++) f.times[k] += 60
    const gap = timelineOf(f)
    expect([gap.rate[20], gap.shares.placed[20], gap.sigma[20], gap.known[20]]).toEqual([0, 0, null, 990])
    expect(timelineOf(of(1, 1))).toMatchObject({ seconds: 0, rate: [0], shares: { placed: [1] }, known: [10] })
    expect(timelineOf(of(0, 1))).toMatchObject({ seconds: 0, rate: [0], known: [0] })
  })
  it('spans are put in order, and those that touch are one', () => {
    expect(
      orderedSpans([
        [5, 4],
        [1, 2],
        [2, 3],
        [4.5, 9],
        [20, 21],
      ]),
    ).toEqual([
      [1, 3],
      [4, 9],
      [20, 21],
    ])
    expect([0.99, 1, 2, 2.01].map((s) => inSpans([[1, 2]], s))).toEqual([false, true, true, false])
  })
})
