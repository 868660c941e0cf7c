import { describe, expect, it } from '@jest/globals'
import { invertRigid, multiply, transformPoint, translation, type Mat4 } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { liveTracker, type LiveOptions } from '../src/capture/livetracker.ts'
import { growingPrint } from '../src/capture/print.ts'
import { relayFrames } from '../src/capture/relay.ts'
import { growingSurface } from '../src/capture/surface.ts'
import { shapeTracker } from '../src/capture/trackshape.ts'
import { printTone } from '../src/scanner/printed.ts'
import { hand, scannerBefore } from './hand.ts'
import { at, tray } from './tray.ts'
import { boxMesh } from './help.ts'

const plate = at(boxMesh(800, 800, 8), -400, -400, -8)
const CENTRE = [0, 0, 450]

/** Led over a thing; how far each frame that was placed is off at the middle of its view, mm, against the first; and what was stated along its weakest motion. */
function led(mesh: typeof plate, print: number | undefined, by: LiveOptions['by'], poses: Mat4[]) {
  const scanner = scannerBefore(mesh, print)
  const tracker = liveTracker({ spacing: 2, noise: 0.08, ...(by ? { by } : {}) })
  let axes: Mat4 | undefined
  const said = poses.map((pose, k) => {
    const { xyz, intensity } = scanner(pose)
    const s = tracker.feed({ time: 60 * k, xyz, levels: intensity })
    axes ??= multiply(s.pose, invertRigid(pose))
    const [a, b] = [s.pose, multiply(axes, pose)].map((p) => transformPoint(p, CENTRE[0], CENTRE[1], CENTRE[2]))
    return { ...s, xyz, levels: intensity, truth: multiply(axes, pose), off: Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]) }
  })
  return { said, tracker }
}
const across = (n: number, step = 3) => Array.from({ length: n }, (_, k) => hand(0, step * k, 0.5 * step * k, 450, 80))

describe('what is printed on a surface', () => {
  it('holds a flat plate that shape alone lets slide, over a hand and more, within what is stated', () => {
    const { said, tracker } = led(plate, 14, 'print', across(28))
    const steady = said.filter((s) => s.state === 'steady')
    expect(steady.length).toBeGreaterThan(24)
    expect(tracker.frames()).toBe(steady.length)
    // 90 mm on; each frame is known within some hundredths against those before
    expect(Math.max(...steady.map((s) => s.off))).toBeLessThan(0.6)
    const sigmas = steady.slice(1).map((s) => Math.max(...s.laid!.sigmas))
    expect(Math.max(...sigmas)).toBeLessThan(0.3)
    expect(Math.min(...sigmas)).toBeGreaterThan(0.005)
    expect(led(plate, 14, 'shape', across(6)).said.at(-1)!.why).toBe('free')
  })
  it('is none on a blank sheet: weak, free to slide, and nothing is added', () => {
    const { said, tracker } = led(plate, undefined, 'print', across(6))
    expect(said.slice(1).map((s) => `${s.state} ${s.why}`)).toEqual(Array<string>(5).fill('weak free'))
    expect(tracker.frames()).toBe(1)
  })
  it('a part that its shape holds is held as well', () => {
    const arc = Array.from({ length: 10 }, (_, k) => hand(1.5 * k))
    const { said } = led(tray, 14, 'print', arc)
    expect(said.filter((s) => s.state === 'steady').length).toBeGreaterThan(8)
    expect(Math.max(...said.filter((s) => s.state === 'steady').map((s) => s.off))).toBeLessThan(0.3)
  })
  it('says the same with half the light, with light that falls off to one side, and with some points blinded', () => {
    const scanner = scannerBefore(plate, 14)
    const [first, second] = [hand(0, 0, 0, 450, 80), hand(0, 4, 2, 450, 80)]
    const a = scanner(first)
    const b = scanner(second)
    const lay = (levels: Uint8Array, xyz = b.xyz) => {
      const surface = growingSurface(2, 0.08)
      const print = growingPrint(2, 0.08)
      surface.addFrame(a.xyz, first, 0)
      print.addFrame(a.xyz, a.intensity, first)
      const laid = shapeTracker(surface, { noise: 0.08, print }).lay(xyz, multiply(translation(1, -0.5, 0), second), undefined, levels)!
      const [p, q] = [laid.pose, second].map((m) => transformPoint(m, CENTRE[0], CENTRE[1], CENTRE[2]))
      return { off: Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]), sigma: Math.max(...laid.sigmas), at: p }
    }
    const plain = lay(b.intensity)
    expect(plain.off).toBeLessThan(3 * plain.sigma)
    for (const other of [
      b.intensity.map((v) => v / 2),
      b.intensity.map((v, i) => v * (0.8 + b.xyz[3 * i] / b.xyz[3 * i + 2] / 2)),
      b.intensity.map((v, i) => (i % 50 ? v : 255)),
    ]) {
      const l = lay(other)
      expect(Math.hypot(...l.at.map((v, k) => v - plain.at[k]))).toBeLessThan(0.15)
      expect(l.off).toBeLessThan(3 * l.sigma)
    }
    expect(plain.sigma).toBeLessThan(0.3)
    // strays far away, aside and behind, rule nothing
    const l = lay(Uint8Array.from([...b.intensity, 200, 200, 90]), Float32Array.from([...b.xyz, 5e4, 1e5, 2e5, 1e6, 0, 10, 5, 5, -400]))
    expect(Math.hypot(...l.at.map((v, k) => v - plain.at[k]))).toBeLessThan(0.15)
  })
  it('a frame that is taken out leaves the print as if it had never been there', () => {
    const scanner = scannerBefore(plate, 14)
    const [first, second, third] = [0, 4, 8].map((x) => hand(0, x, 0, 450, 80))
    const [a, b, c] = [first, second, third].map((p) => scanner(p))
    const lay = (twice: boolean) => {
      const surface = growingSurface(2, 0.08)
      const print = growingPrint(2, 0.08)
      surface.addFrame(a.xyz, first, 0)
      print.addFrame(a.xyz, a.intensity, first)
      if (twice) {
        print.addFrame(b.xyz, b.intensity, second)
        print.addFrame(b.xyz, b.intensity, second, -1)
      }
      return shapeTracker(surface, { noise: 0.08, print }).lay(c.xyz, third, undefined, c.intensity)!
    }
    const [once, again] = [lay(false), lay(true)]
    once.pose.forEach((v, k) => expect(again.pose[k]).toBeCloseTo(v, 1))
  })
  it('lays frames once more on all of them', async () => {
    const { said } = led(plate, 14, 'print', across(12))
    const frames = said.map((s, k) => ({ time: 60 * k, xyz: s.xyz, levels: s.levels, pose: s.truth }))
    const aside = frames.map((f, k) => (k === 6 ? multiply(translation(0.25, 0, 0), f.pose) : f.pose))
    const offs = async (print: boolean) => {
      const { poses } = await relayFrames(frames, aside, { spacing: 2, noise: 0.08, print }, quietContext)
      return Math.abs(poses[6][3] - frames[6].pose[3])
    }
    expect(await offs(true)).toBeLessThan(0.15)
    expect(await offs(false)).toBeCloseTo(0.25, 2)
  })
})

describe('the print of a stand-in', () => {
  it('is smooth, goes on for ever without repeating, and has ink and none', () => {
    const tones = Array.from({ length: 20_000 }, (_, i) => printTone(0.37 * i, 0.11 * i, 0.05 * i, 12))
    expect([Math.min(...tones) >= 0.25, Math.max(...tones) <= 1]).toEqual([true, true])
    const share = tones.filter((t) => t < 0.5).length / tones.length
    expect([share > 0.2, share < 0.8]).toEqual([true, true])
    for (let i = 0; i < 1000; i++) expect(Math.abs(printTone(i, 3, 5, 12) - printTone(i + 0.01, 3, 5, 12))).toBeLessThan(0.02)
  })
})
