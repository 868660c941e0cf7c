import { describe, expect, it } from '@jest/globals'
import { seeded } from '../src/base/random.ts'
import { adjustMarkers, type Sightings } from '../src/markers/adjust.ts'
import { deletedResiduals } from '../src/markers/deleted.ts'
import { findChanges, type Change } from '../src/markers/moved.ts'
import { evenSight } from '../src/markers/sight.ts'

describe('changes in a series of sightings', () => {
  const positions = Float64Array.of(0, 0, 400, 90, 10, 380, -80, 30, 420, 20, 100, 400, -10, -90, 390, 60, -70, 410)
  const identity = Float64Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
  /** n frames that show all markers but those after `shown`; the first shifted along x as told */
  const seen = (r: ReturnType<typeof seeded>, n: number, shown: number, shift: (f: number) => number): Sightings => ({
    frame: Int32Array.from({ length: shown * n }, (_, i) => Math.floor(i / shown)),
    marker: Int32Array.from({ length: shown * n }, (_, i) => i % shown),
    xyz: Float64Array.from({ length: 3 * shown * n }, (_, k) => {
      const [f, at] = [Math.floor(k / (3 * shown)), k % (3 * shown)]
      return positions[at] + 0.02 * r.gauss() + (at === 0 ? shift(f) : 0)
    }),
  })
  const poses = (n: number) => Array.from({ length: n }, () => identity)
  /** Those that solveMap takes at once: the others follow it, and go when it has two places. */
  const foremost = (changes: Change[]) => changes.filter((c) => c.gain >= 0.3 * Math.max(...changes.map((o) => o.gain)))

  it('are not seen in noise, nor in one wild sighting', () => {
    const r = seeded(5)
    const n = 60
    const find = (shift: (i: number) => number) => {
      const s = seen(r, n, 6, shift)
      return findChanges(s, { poses: poses(n), positions, sigma: 0.02, normalised: new Float64Array(s.frame.length) }, evenSight)
    }
    for (let k = 0; k < 200; k++) expect(find(() => 0)).toEqual([])
    expect(find((i) => (i === 57 ? 3 : 0))).toEqual([])
    const change = foremost(find((i) => (i >= 25 ? 0.2 : 0)))
    expect(change.map((c) => [c.marker, c.frame])).toEqual([[0, 25]])
    expect(change[0].distance).toBeCloseTo(0.2, 1)
  })
  it('are not seen in errors that go on from frame to frame, as an aged calibration makes them; in the midst of them a real one is', () => {
    const r = seeded(21)
    const n = 200
    const find = (step: number) => {
      const s = seen(r, n, 6, (f) => (f >= 90 ? step : 0))
      const slow = new Float64Array(18)
      s.xyz.forEach((_, k) => (s.xyz[k] += slow[k % 18] = 0.97 * slow[k % 18] + 0.007 * r.gauss()))
      return findChanges(s, { poses: poses(n), positions, sigma: 0.035, normalised: new Float64Array(s.frame.length) }, evenSight)
    }
    for (let k = 0; k < 100; k++) expect(find(0)).toEqual([])
    const change = foremost(find(0.6))
    expect(change.map((c) => [c.marker, Math.abs(c.frame - 90) < 4, c.alike > 5])).toEqual([[0, true, true]])
    expect(Math.abs(change[0].distance - 0.6)).toBeLessThan(3 * change[0].uncertainty)
  })
  it('are seen by the other markers of a frame: one that moved among five pulls the poses after itself, and nobody else is named', () => {
    const r = seeded(8)
    const n = 60
    const s = seen(r, n, 5, (f) => (f >= 30 ? 1 : 0))
    const solved = adjustMarkers({ sightings: s, poses: poses(n), positions: positions.slice(0, 15), sight: evenSight, reject: Infinity })
    const change = foremost(findChanges(s, solved, evenSight))
    expect(change.map((c) => [c.marker, c.frame])).toEqual([[0, 30]])
    expect(Math.abs(change[0].distance - 1)).toBeLessThan(0.15)
    // frames of fewer than three others say nothing of a fourth
    const few = seen(r, n, 3, (f) => (f >= 30 ? 1 : 0))
    expect(findChanges(few, { ...solved, normalised: new Float64Array(few.frame.length) }, evenSight)).toEqual([])
  })

  it('a place that the others of its frame do not hold says nothing: they lie on one line, and the frame may turn about it', () => {
    // three of them in line, the fourth beside it; whether a matrix without an inverse has a factor is a matter of rounding
    const r = seeded(12)
    const s = (places: Float64Array): Sightings => ({
      frame: new Int32Array(4),
      marker: Int32Array.of(0, 1, 2, 3),
      xyz: places.map((v, i) => v + (i === 10 ? 1.5 : 0)),
    })
    const solved = (positions: Float64Array) => ({ poses: [identity], positions, normalised: new Float64Array(4) })
    const places = Float64Array.of(-80, 20, 400, 10, 50, 430, 100, 80, 460, 30, -90, 380)
    for (let k = 0; k < 300; k++) {
      const { offset, info } = deletedResiduals(s(places), solved(places), evenSight)
      expect([...info.subarray(18, 24), ...offset.subarray(9, 12)]).toEqual(new Array(9).fill(0))
      const along = [100 * r.gauss(), 100 * r.gauss(), 50 * r.gauss()]
      for (let i = 0; i < 9; i++) places[i] = [20, -10, 400][i % 3] + along[i % 3] * [-1.1, 0.13, 0.7][Math.floor(i / 3)]
    }
    const { info } = deletedResiduals(s(places), solved(places), evenSight)
    // those on the line are held by the other three, except along what these leave weak
    for (const i of [0, 1, 2]) expect(Math.hypot(...info.subarray(6 * i, 6 * i + 6))).toBeGreaterThan(0.01)
    // a millimetre beside the line is little, but no nothing
    places[4] += 1
    const held = deletedResiduals(s(places), solved(places), evenSight)
    expect(Math.hypot(...held.info.subarray(18, 24))).toBeGreaterThan(0.01)
    expect([...held.offset].every(Number.isFinite)).toBe(true)
  })
})
