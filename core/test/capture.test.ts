import { describe, expect, it } from '@jest/globals'
import { fromRotationVector, identity, invertRigid, multiply, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { PATCH } from '../src/capture/patch.ts'
import { growingSurface, type GrowingSurface } from '../src/capture/surface.ts'
import { shapeTracker, type ShapePose } from '../src/capture/trackshape.ts'

const NOISE = 0.05
type Shape = (u: number, v: number) => [number, number, number]

/** A frame of a shape as a scanner sees it from `pose` (scanner to world): 3N in scanner coordinates, noise along its view. */
function see(shape: Shape, pose: Mat4, seed: number, count = 6000): Float32Array {
  const random = seeded(seed)
  const back = invertRigid(pose)
  const xyz = new Float32Array(3 * count)
  for (let i = 0; i < count; i++) {
    const p = transformPoint(back, ...shape(random.next(), random.next()))
    const s = 1 + (NOISE * random.gauss()) / Math.hypot(...p)
    xyz.set([s * p[0], s * p[1], s * p[2]], 3 * i)
  }
  return xyz
}
function grow(surface: GrowingSurface, xyz: Float32Array, pose: Mat4, frame: number): void {
  for (let i = 0; i < xyz.length; i += 3) {
    const p = transformPoint(pose, xyz[i], xyz[i + 1], xyz[i + 2])
    const v = [0, 1, 2].map((k) => pose[4 * k + 3] - p[k])
    const l = Math.hypot(...v)
    surface.add(p[0], p[1], p[2], v[0] / l, v[1] / l, v[2] / l, frame)
  }
}
const plate: Shape = (u, v) => [160 * (u - 0.5), 120 * (v - 0.5), 0]
const rod: Shape = (u, v) => [160 * (u - 0.5), 30 * Math.sin(2 * (v - 0.5)), 30 * Math.cos(2 * (v - 0.5)) - 30]
/** a tray with sloping sides: everything holds it */
const tray: Shape = (u, v) => {
  const [x, y] = [160 * (u - 0.5), 120 * (v - 0.5)]
  return [x, y, Math.max(0, Math.abs(x) - 55) * 0.8 + Math.max(0, Math.abs(y) - 35) * 0.7]
}
/** from above, a little aside */
const eye = (turn: number[] = [0, 0, 0], x = 0, y = 0, z = 400): Mat4 => {
  const m = multiply(fromRotationVector(turn[0], turn[1], turn[2]), Float64Array.of(1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1))
  m[3] = x
  m[7] = y
  m[11] = z
  return m
}
/** Ten frames of what is known, then one that is laid on it from a start somewhat off. */
function lay(shape: Shape, seed: number, off: Mat4, side = 2): { got: ShapePose | undefined; truth: Mat4 } {
  const surface = growingSurface(side, NOISE)
  for (let f = 0; f < 10; f++) {
    const pose = eye([0.02 * f, -0.01 * f, 0], 2 * f, -f)
    grow(surface, see(shape, pose, 100 * seed + f), pose, f)
  }
  const truth = eye([0.1, 0.05, 0.02], 5, -12, 392)
  return { got: shapeTracker(surface, { noise: NOISE }).lay(see(shape, truth, 100 * seed + 50), multiply(off, truth)), truth }
}

describe('a surface that grows', () => {
  it('tells plane, place and scatter of what lies around, also 3 m out and below zero', () => {
    for (const [ox, oy, oz] of [
      [0, 0, 0],
      [-3000, 2999, -1234.5],
    ]) {
      const random = seeded(4)
      const s = growingSurface(1, 0.03)
      const n = [0.2, -0.3, Math.sqrt(1 - 0.13)]
      for (let i = 0; i < 40_000; i++) {
        const [x, y] = [40 * (random.next() - 0.5), 40 * (random.next() - 0.5)]
        const z = -(n[0] * x + n[1] * y) / n[2]
        const e = 0.03 * random.gauss()
        s.add(ox + x + e * n[0], oy + y + e * n[1], oz + z + e * n[2], 0, 0, 1, Math.floor(i / 4000))
      }
      const p = new Float64Array(PATCH)
      expect(s.patchAt(ox + 0.4, oy + 0.3, oz, 0, 0, 1, p)).toBe(true)
      const tilt = Math.acos(Math.min(1, n[0] * p[3] + n[1] * p[4] + n[2] * p[5]))
      const across = (p[0] - ox) * n[0] + (p[1] - oy) * n[1] + (p[2] - oz) * n[2]
      expect(tilt).toBeLessThan(4 * Math.sqrt((p[7] / p[6]) * p[8]))
      expect(Math.abs(across)).toBeLessThan(4 * Math.sqrt(p[7] / p[6]))
      expect(Math.sqrt(p[7])).toBeCloseTo(0.03, 2)
      expect([p[6] > 150, p[6] < 330]).toEqual([true, true])
      expect(s.patchAt(ox + 100, oy, oz, 0, 0, 1, p)).toBe(false)
      // middle of a cube, and the way it was seen
      const at = new Float32Array(6)
      const k = s.cubeAt(ox + 0.4, oy + 0.3, oz - (n[0] * 0.4 + n[1] * 0.3) / n[2], 0, 0, 1)
      s.middleOf(k, at, 0)
      expect(Math.abs((at[0] - ox) * n[0] + (at[1] - oy) * n[1] + (at[2] - oz) * n[2])).toBeLessThan(0.02)
      expect([...at.subarray(3), s.seenIn(k) > 5, s.seenIn(k) <= 10]).toEqual([0, 0, 1, true, true])
    }
  })
  it('keeps the two faces of a sheet apart, though they lie in the same cubes', () => {
    const random = seeded(6)
    const s = growingSurface(1, 0.03)
    for (let i = 0; i < 20_000; i++) {
      const up = i % 2 ? 1 : -1
      s.add(20 * (random.next() - 0.5), 20 * (random.next() - 0.5), 0.5 + 0.2 * up + 0.02 * random.gauss(), 0, 0, up, 0)
    }
    const p = new Float64Array(PATCH)
    for (const up of [1, -1]) {
      s.patchAt(0, 0, 0.5, 0, 0, up, p)
      expect(p[2]).toBeCloseTo(0.5 + 0.2 * up, 1)
      expect([p[5] * up > 0.99, Math.sqrt(p[7]) < 0.03]).toEqual([true, true])
    }
    expect(() => growingSurface(0, 0.03)).toThrow('cubes of 0 mm')
  })
  it('knows what hides a place from the scanner: surface seen from that side, not its back, nor what was seen once', () => {
    const s = growingSurface(1, 0.03)
    // a plate of 20 mm, 30 mm up, seen from above in five frames; another, 30 mm aside, in one
    for (let f = 0; f < 5; f++)
      for (let x = -10; x < 10; x += 0.5)
        for (let y = -10; y < 10; y += 0.5) {
          s.add(x, y, 30, 0, 0, 1, f)
          if (f === 0) s.add(x + 30, y, 30, 0, 0, 1, f)
        }
    const hides = (x: number, z: number, ex: number, ez: number, least = 3) => s.hiddenBy(x, 0.1, z, ex, 0, ez, 3, 300, least) >= 0
    expect([hides(0.1, 0, 0, 400), hides(0.1, 0, 100, 400), hides(0.1, 29, 0, 400), hides(0.1, 40, 0, 400), hides(15, 0, 15, 400)]).toEqual([
      true,
      true,
      false,
      false,
      false,
    ])
    // from below one sees its back, which nobody saw
    expect(hides(0.1, 60, 0, -400)).toBe(false)
    expect([hides(30, 0, 30, 400), hides(30, 0, 30, 400, 1)]).toEqual([false, true])
  })
})

describe('a frame laid on it by shape', () => {
  it('comes to where it was seen from, and the error it states is the one it has', () => {
    let [squares, worst] = [0, 0]
    const runs = 24
    for (let seed = 1; seed <= runs; seed++) {
      const off = fromRotationVector(0.004, -0.003, 0.005)
      off.set([1.1], 3)
      off.set([-0.8], 7)
      off.set([0.6], 11)
      const { got, truth } = lay(tray, seed, off)
      const { pose, motions, sigmas, middle, lever, met, fits, rms, expected } = got!
      expect([met > 0.95, fits > 0.95 * met, rms / expected > 0.8, rms / expected < 1.2]).toEqual([true, true, true, true])
      // the error as the six motions
      const e = multiply(pose, invertRigid(truth))
      const turn = [e[9] - e[6], e[2] - e[8], e[4] - e[1]].map((v) => (v / 2) * lever)
      const m = transformPoint(invertRigid(e), ...middle).map((v, k) => middle[k] - v)
      const d = [...turn, ...m]
      for (let k = 0; k < 6; k++) {
        const along = d.reduce((sum, v, r) => sum + v * motions[6 * r + k], 0)
        squares += (along / sigmas[k]) ** 2 / (6 * runs)
        worst = Math.max(worst, Math.abs(along))
      }
    }
    expect(worst).toBeLessThan(0.06)
    expect(Math.sqrt(squares)).toBeGreaterThan(0.7)
    expect(Math.sqrt(squares)).toBeLessThan(1.4)
  })
  it('a plate stays free to slide and to turn, a rod to slide along and to turn about itself, and both stay there where they were predicted', () => {
    const slid = identity()
    slid[3] = 1.5
    slid[7] = -1
    const { got: p, truth } = lay(plate, 3, slid)
    expect([...p!.sigmas].filter((s) => s > 1)).toHaveLength(3)
    expect(p!.pose[3] - truth[3]).toBeCloseTo(1.5, 1)
    expect(p!.pose[7] - truth[7]).toBeCloseTo(-1, 1)
    expect(Math.abs(p!.pose[11] - truth[11])).toBeLessThan(0.05)
    const along = identity()
    along[3] = 1.5
    const { got: r, truth: t } = lay(rod, 4, along)
    expect([...r!.sigmas].filter((s) => s > 1)).toHaveLength(2)
    expect(r!.pose[3] - t[3]).toBeCloseTo(1.5, 1)
  })
  it('what does not meet the surface is not laid anywhere', () => {
    const away = identity()
    away[11] = 60
    expect(lay(tray, 5, away).got).toBeUndefined()
    const few = growingSurface(2, NOISE)
    expect(shapeTracker(few, { noise: NOISE }).lay(new Float32Array(30), identity())).toBeUndefined()
  })
})
