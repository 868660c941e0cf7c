import { describe, expect, it } from '@jest/globals'
import { fromRotationVector, invertRigid, multiply, transformPoint, translation, type Mat4 } from '../src/base/mat4.ts'
import { liveTracker, type LiveState } from '../src/capture/livetracker.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { hand, scannerBefore } from './hand.ts'
import { boxMesh } from './help.ts'
import { at, roof, together, tray } from './tray.ts'

const EVERY = 60

// ribs that all look alike, and a bar along each end so that nothing can slide along them
const ribs = together([
  at(boxMesh(220, 80, 6), -110, -40, -6),
  ...Array.from({ length: 12 }, (_, i) => roof(60, 9, 90, -90 + 16 * i, 0)),
  roof(210, 9, 0, 0, -36),
])
// ribs further apart than what is seen of them when a hand is in the way
const sparse = together([
  at(boxMesh(300, 80, 6), -150, -40, -6),
  ...Array.from({ length: 7 }, (_, i) => roof(60, 9, 90, -120 + 40 * i, 0)),
  roof(290, 9, 0, 0, -36),
])
const plate = at(boxMesh(800, 800, 8), -400, -400, -8)

/** Feeds frames; gives what was said of each, and by how much those that were placed are off, mm at the part's corners. */
function record(mesh: Mesh, poses: (Mat4 | null)[], spacing = 2, seen = (xyz: Float32Array, _: number) => xyz) {
  const scanner = scannerBefore(mesh)
  const tracker = liveTracker({ spacing, noise: 0.08 })
  let first: Mat4 | undefined
  const said: LiveState[] = []
  const off: (number | null)[] = []
  poses.forEach((pose, k) => {
    const s = tracker.feed({ time: k * EVERY, xyz: pose ? seen(scanner(pose).xyz, k) : new Float32Array(0) })
    said.push(s)
    if (pose) first ??= multiply(pose, invertRigid(s.pose))
    const placed = s.state === 'steady' && pose
    const e = placed && first ? multiply(first, multiply(s.pose, invertRigid(pose))) : null
    off.push(e && Math.max(...[-60, 60].flatMap((x) => [-40, 40].map((y) => Math.hypot(...transformPoint(e, x, y, 10).map((v, i) => v - [x, y, 10][i]))))))
  })
  return { said, off, tracker }
}
const largest = (off: (number | null)[]) => Math.max(...off.map((v) => v ?? 0))
const arc = (from: number, to: number, n: number) => Array.from({ length: n }, (_, k) => hand(from + ((to - from) * k) / (n - 1)))

describe('tracking by shape while one records', () => {
  it('follows a hand round a part', () => {
    const { said, off, tracker } = record(tray, arc(0, 40, 40))
    expect(said.map((s) => s.state).filter((s) => s !== 'steady')).toEqual([])
    expect([largest(off) < 0.5, tracker.frames(), tracker.surface().cubes() > 1000]).toEqual([true, 40, true])
  })
  it('one point of each frame that lies two hundred metres away rules nothing', () => {
    const stray = (xyz: Float32Array) => Float32Array.from([...xyz, 5e4, 1e5, 2e5])
    const { said, off } = record(tray, arc(0, 15, 15), 2, stray)
    expect(said.map((s) => s.state).filter((s) => s !== 'steady')).toEqual([])
    expect(largest(off)).toBeLessThan(0.5)
    // stated as without it
    expect(Math.max(...said.slice(3).map((s) => Math.max(...(s.laid?.sigmas ?? [Infinity]))))).toBeLessThan(0.1)
  })
  it('is lost by a jerk and by a covered lens, adds nothing meanwhile, is found where it was lost, and places what waited', () => {
    const led = arc(0, 30, 20)
    // torn away, held before something else, and led back
    const torn = [hand(75, 60, 40), hand(80, 70, 60), hand(85, 90, 40), null, null]
    const back = [hand(36), hand(34), ...arc(31, 24, 8), ...arc(24, 50, 14)]
    const { said, off, tracker } = record(tray, [...led, ...torn, ...back])
    const states = said.map((s) => s.state)
    // it may be right about where it was torn to, and must prove that
    expect(said.slice(20, 25).map((s) => s.entered.length)).toEqual([0, 0, 0, 0, 0])
    expect([states[20], states[24]]).toEqual(['lost', 'lost'])
    expect(states).toContain('finding')
    expect(states.slice(-10)).toEqual(Array<string>(10).fill('steady'))
    expect(largest(off)).toBeLessThan(0.5)
    // each frame that is in the surface was steady, proved itself, or was rescued
    const rescued = said.reduce((s, v) => s + v.rescued, 0)
    expect(tracker.frames()).toBe(states.filter((s) => s === 'steady').length + rescued)
    // and says where it lies, of which span
    const entered = said.flatMap((s) => s.entered.map((e) => ({ ...e, span: s.span })))
    expect([entered.length, new Set(entered.map((e) => e.time)).size]).toEqual([tracker.frames(), tracker.frames()])
    expect(entered.filter((e) => e.span === 0).length).toBe(20)
    expect(said.at(-1)!.span).toBe(1)
  })
  it('what waits when the hand stops is placed one by one, with time on its hands', () => {
    // torn away, then on slowly from where it can be led back from: those on the way wait
    const { said, tracker } = record(tray, [...arc(0, 30, 20), hand(75, 60, 40), ...arc(80, 33, 30).slice(0, 20)])
    expect(said.at(-1)!.state).toBe('steady')
    const [frames, waiting] = [tracker.frames(), said.at(-1)!.waiting]
    expect(waiting).toBeGreaterThan(3)
    let placed = 0
    for (let s = tracker.tryWaiting(); s; s = tracker.tryWaiting()) {
      expect([s.state, s.entered.length]).toEqual(['steady', s.rescued])
      placed += s.rescued
    }
    expect([tracker.frames(), placed > 2]).toEqual([frames + placed, true])
    // and nothing more is tried where nothing waits
    expect(tracker.tryWaiting()).toBeUndefined()
    expect(record(tray, arc(0, 10, 6)).tracker.tryWaiting()).toBeUndefined()
  })
  it('on a slow computer frames are passed over: it goes on as it went, for as long as that took', () => {
    const before = scannerBefore(tray)
    const scanner = (pose: Mat4) => before(pose).xyz
    const tracker = liveTracker({ spacing: 2, noise: 0.08 })
    // 2 degrees in 60 ms, and every so often six frames are missing
    const said: string[] = []
    for (let k = 0; k < 60; k++) if (k < 12 || k % 12 >= 6) said.push(tracker.feed({ time: k * EVERY, xyz: scanner(hand(2 * k)) }).state)
    expect(said.filter((s) => s !== 'steady')).toEqual([])
    expect(tracker.frames()).toBe(said.length)
  })
  it('where the scanner says how it went, a jerk and a covered lens lose nothing; what it says is a start, and no proof', () => {
    const before = scannerBefore(tray)
    const scanner = (pose: Mat4) => before(pose).xyz
    const jerked = (k: number) => hand(k < 12 ? 2 * k : 2 * k + 25)
    // as an arm says it: in axes of its own, and a little off
    const arm = multiply(translation(900, -300, 70), fromRotationVector(0.3, 1.1, -0.6))
    const off = (k: number) => multiply(translation(0.2 * (k % 3) - 0.2, 0, 0), fromRotationVector(0, 0.0005 * (k % 2), 0))
    const tell = (k: number) => multiply(multiply(arm, jerked(k)), off(k))
    for (const says of [true, false]) {
      const tracker = liveTracker({ spacing: 2, noise: 0.08 })
      const said = Array.from({ length: 24 }, (_, k) =>
        tracker.feed({ time: k * EVERY, xyz: k === 18 ? new Float32Array(0) : scanner(jerked(k)), ...(says ? { at: tell(k) } : {}) }),
      )
      const states = said.map((s) => s.state)
      if (says) {
        expect(states.filter((s, k) => s !== 'steady' && k < 18)).toEqual([])
        expect(states.at(-1)).toBe('steady')
        expect(tracker.frames()).toBe(23)
      } else expect(states[12]).toBe('lost')
    }
  })
  it('is found again from where a hand leads it back to without looking: 50 mm and 12 degrees beside', () => {
    const last = hand(30)
    for (const [k, [x, y, z]] of [
      [1, 0, 0],
      [0, 1, 0],
      [-0.6, 0, 0.8],
    ].entries()) {
      const turn = (12 * Math.PI) / 180
      const beside = (d: number) =>
        multiply(
          last,
          multiply(translation(50 * x + d, 50 * y, 50 * z + 450), multiply(fromRotationVector(turn * y, -turn * x, k ? turn * z : 0), translation(0, 0, -450))),
        )
      const { said, off } = record(tray, [...arc(0, 30, 20), null, null, ...Array.from({ length: 12 }, (_, i) => beside(i))])
      expect([k, said.at(-1)!.state]).toEqual([k, 'steady'])
      expect(largest(off)).toBeLessThan(0.2)
    }
  })
  it('a place that shows the same elsewhere as well is none, as far as it looks from', () => {
    // four ribs further on at the most: what is seen of a long row of them is the same everywhere but at its ends
    const long = together([at(boxMesh(900, 60, 6), -450, -30, -6), ...Array.from({ length: 22 }, (_, i) => roof(50, 9, 90, -420 + 40 * i, 0))])
    const led = Array.from({ length: 16 }, (_, k) => hand(20, k - 8))
    const { said, off } = record(long, [...led, null, null, ...Array.from({ length: 12 }, (_, k) => hand(20, 45 + 0.5 * k))])
    expect(said.slice(18).map((s) => s.state)).not.toContain('steady')
    expect(largest(off)).toBeLessThan(0.6)
  })
  it('what a person leaves out goes from the surface; from its newest frames on it is led back to the newest that is left, and taken in again it is as it was', () => {
    const poses = arc(0, 20, 24)
    const before = record(tray, poses.slice(0, 16))
    const { tracker, said } = record(tray, poses)
    const shoot = scannerBefore(tray)
    const scanner = (pose: Mat4) => shoot(pose).xyz
    const frames = poses.map((pose, k) => ({ time: k * EVERY, xyz: scanner(pose) }))
    const points = (t: typeof tracker) => {
      const surface = t.surface()
      let [sum, full] = [0, 0]
      for (let k = 0; k < surface.cubes(); k++) {
        sum += surface.pointsIn(k)
        if (surface.pointsIn(k) > 0) full++
      }
      return [sum, full, t.frames()]
    }
    const whole = points(tracker)
    // in the middle: nothing is lost with that
    expect(tracker.leaveOut(frames.slice(5, 8)).state).toBe('steady')
    expect([tracker.frames(), tracker.ghost()]).toEqual([21, undefined])
    tracker.takeIn(frames.slice(5, 8))
    expect(points(tracker)).toEqual(whole)
    // the last ones: as if they had never come
    expect(tracker.leaveOut(frames.slice(16)).state).toBe('lost')
    tracker.leaveOut(frames.slice(16))
    expect(points(tracker)).toEqual(points(before.tracker))
    expect(tracker.ghost()).toEqual(said[15].pose)
    const middles = (t: typeof tracker) => {
      const out = new Float32Array(6 * before.tracker.surface().cubes())
      for (let k = 0; 6 * k < out.length; k++) t.surface().middleOf(k, out, 6 * k)
      return out
    }
    const rest = middles(tracker)
    expect(Math.max(...middles(before.tracker).map((v, i) => Math.abs(v - rest[i])))).toBeLessThan(0.001)
    // and goes on from there, once it has proved itself
    const on = frames.slice(6, 16).map((f) => tracker.feed({ ...f, time: f.time + 2000 }))
    expect([on[0].state, on.at(-1)!.state]).toEqual(['finding', 'steady'])
    // nothing is left: it begins anew
    expect(tracker.leaveOut([...frames, ...frames.map((f) => ({ ...f, time: f.time + 2000 }))]).anew).toBe(true)
    expect([tracker.frames(), tracker.surface().cubes(), tracker.feed({ ...frames[0], time: 9000 }).state]).toEqual([0, 0, 'steady'])
  })
  it('where a part looks alike, a place beside is not taken for the one it was', () => {
    const led = Array.from({ length: 16 }, (_, k) => hand(20, k - 8))
    // torn away, and put down one rib further
    const beside = Array.from({ length: 12 }, (_, k) => hand(20, 8 + 15 + 0.5 * k))
    const { said, off } = record(ribs, [...led, null, null, ...beside])
    expect(said.slice(0, 16).every((s) => s.state === 'steady')).toBe(true)
    // what it sees of the bars' ends tells the one from the other: it is where it is, or lost
    expect(said.slice(18).every((s) => s.state !== 'weak')).toBe(true)
    expect(largest(off.slice(18))).toBeLessThan(0.1)
    expect(said.at(-1)!.state).toBe('steady')
  })
  it('after a stretch in which it could slide, it does not go on one rib further', () => {
    const over = (x: number) => hand(90, x, 0, 450, 80)
    const led = Array.from({ length: 17 }, (_, k) => over(k - 8))
    // a hand before all but a strip of 20 mm: beside a rib, along which nothing holds; the scanner stops there, and comes back
    const strip = [12, 16, ...Array<number>(6).fill(20), ...Array.from({ length: 20 }, (_, k) => Math.max(0, 20 - 2 * k))].map(over)
    const narrow = (xyz: Float32Array, k: number) => {
      if (k < led.length) return xyz
      const out: number[] = []
      for (let i = 0; i < xyz.length; i += 3) if (Math.abs(xyz[i]) < 10) out.push(xyz[i], xyz[i + 1], xyz[i + 2])
      return Float32Array.from(out)
    }
    const { said, off } = record(sparse, [...led, ...strip], 2, narrow)
    expect(said.slice(0, led.length).every((s) => s.state === 'steady')).toBe(true)
    // of twenty ways to stop and to come back this is the one that ended 5 mm off and called it steady
    expect(said.map((s) => s.why)).toEqual(expect.arrayContaining(['free', 'off']))
    expect(said.slice(-5).every((s) => s.state === 'steady')).toBe(true)
    expect(largest(off)).toBeLessThan(0.5)
  })
  it('led back to where something is free it is weak, not lost; it adds nothing until it is held and has proved itself', () => {
    const over = (x: number) => hand(90, x, 0, 450, 80)
    const led = Array.from({ length: 17 }, (_, k) => over(k - 8))
    // a strip beside a rib, along which nothing holds, and 2 mm beside; then all is seen again
    const strip = Array.from({ length: 6 }, (_, k) => multiply(translation(0.5 * k, 2, 0), over(20)))
    const poses = [...led, null, null, ...strip, ...Array.from({ length: 12 }, (_, k) => over(18 - 2 * k))]
    const narrow = (xyz: Float32Array, k: number) => (k < led.length + 2 || k >= led.length + 8 ? xyz : xyz.filter((_, i) => Math.abs(xyz[i - (i % 3)]) < 10))
    const { said, off } = record(sparse, poses, 2, narrow)
    expect(said.slice(17, 19).map((s) => s.state)).toEqual(['lost', 'lost'])
    const free = said.slice(19, 25)
    // 12 mm from where it was left it may take a frame
    expect(free.slice(1).map((s) => `${s.state} ${s.why}`)).toEqual(Array<string>(5).fill('weak free'))
    const after = said.slice(25)
    const steady = after.findIndex((s) => s.state === 'steady')
    expect(after.slice(0, steady).map((s) => s.state)).toContain('finding')
    expect([...free, ...after.slice(0, steady)].flatMap((s) => s.entered)).toEqual([])
    expect(after.slice(steady).every((s) => s.state === 'steady')).toBe(true)
    expect([said.at(-1)!.span, largest(off) < 0.3]).toEqual([1, true])
  })
  it('one frame is nothing to come back to: torn away at once, it begins anew', () => {
    const { said, off } = record(tray, [hand(0), ...arc(150, 170, 12)])
    expect(said.filter((s) => s.anew).length).toBeGreaterThan(0)
    expect(said.slice(-8).every((s) => s.state === 'steady')).toBe(true)
    expect(off.at(-1)).not.toBeNull()
  })
  it('a plate is weak: free to slide, and nothing is added by guessing', () => {
    const { said, tracker } = record(
      plate,
      Array.from({ length: 12 }, (_, k) => hand(0, 2 * k, 0, 450, 80)),
    )
    expect(said.slice(1).map((s) => `${s.state} ${s.why}`)).toEqual(Array<string>(11).fill('weak free'))
    expect(tracker.frames()).toBe(1)
  })
})
