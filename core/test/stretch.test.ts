import { describe, expect, it } from '@jest/globals'
import { identity, invertRigid, multiply, transformPoint } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { solveRecording } from '../src/capture/solverecording.ts'
import { leastKnownStretch, printedStretch } from '../src/capture/stretch.ts'
import { keepFrame } from '../src/formats/recording.ts'
import { MATERIALS } from '../src/scanner/scene.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { hand } from './hand.ts'

/** A panel of 1300 x 480 mm whose surface waves by so much, rms, mm. */
function waving(height: number): Mesh {
  const r = seeded(5)
  const waves = Array.from({ length: 24 }, () => [0.03 + 0.1 * r.next(), 2 * Math.PI * r.next(), 2 * Math.PI * r.next()])
  const z = (x: number, y: number) => (height / Math.sqrt(12)) * waves.reduce((s, [k, d, p]) => s + Math.sin(k * (x * Math.cos(d) + y * Math.sin(d)) + p), 0)
  const [side, nx, ny] = [5, 261, 97]
  const vertices = Float32Array.from({ length: 3 * nx * ny }, (_, i) => {
    const at = Math.floor(i / 3)
    const [x, y] = [((at % nx) - 130) * side, (Math.floor(at / nx) - 48) * side]
    return [x, y, z(x, y)][i % 3]
  })
  const triangles: number[] = []
  for (let j = 0; j < ny - 1; j++)
    for (let i = 0; i < nx - 1; i++) {
      const a = j * nx + i
      triangles.push(a, a + 1, a + nx + 1, a, a + nx + 1, a + nx)
    }
  return makeMesh({ vertices, triangles: Uint32Array.from(triangles) })
}

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const range = { near: 300, ideal: 450, far: 700 }

/** Led along it by 7 mm a frame; what is stated of its length, and what it is off by, mm. */
async function along(height: number, frames = 36) {
  const mesh = waving(height)
  const things = [{ kind: 'mesh' as const, mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS.matte }]
  const poses = Array.from({ length: frames }, (_, k) => hand(0, -120 + 7 * k, 0, 450, 80))
  const shots = poses.map((pose, k) =>
    takeShot({ range }, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 8, noise: 0.03, seed: 1000 * k + 7 }),
  )
  const r = await solveRecording(
    shots.map(({ xyz }, k) => keepFrame(60 * k, { xyz }, [])),
    { spacing: 3, noise: 0.1, by: 'shape' },
    quietContext,
  )
  const [first, last] = [r.placed[0], r.placed.at(-1)!]
  const truth = (f: typeof first) => poses[f.time / 60]
  const axes = multiply(first.pose, invertRigid(truth(first)))
  const [is, was] = [last.pose, multiply(axes, truth(last))].map((p) => transformPoint(p, 0, 0, 450))
  return { ...r, off: Math.hypot(...is.map((v, k) => v - was[k])), far: (7 * (last.time - first.time)) / 60 }
}

describe('a stretch along which frames hold one another by little', () => {
  it('is named with its direction, and is off by no more than is stated; what holds them better states less', async () => {
    const [flat, deep] = [await along(0.5), await along(2)]
    for (const r of [flat, deep]) {
      expect(r.placed.length).toBeGreaterThan(30)
      const { sigma, over, axis, lengthwise } = r.closed!.stretch!
      expect(r.off).toBeLessThan(3 * sigma)
      // from the middle of the first piece to that of the last
      expect(over).toBeGreaterThan(0.5 * r.far)
      expect(over).toBeLessThan(r.far)
      expect(Math.hypot(...axis)).toBeCloseTo(1, 6)
      // the hand went along y of the pass, which is up in its first frame; z is towards the scanner, and known well
      expect(Math.abs(axis[2])).toBeLessThan(0.3)
      expect(lengthwise).toBe(Math.abs(axis[1]) > 0.8)
    }
    expect(flat.closed!.stretch!.sigma).toBeGreaterThan(2 * deep.closed!.stretch!.sigma)
  }, 300_000)
  it('is the one that is known least, with what a turn adds far from its centre; what is free or unknown is left to others', () => {
    const pose = (turn: number, shift: number[], free?: number[][]) => ({
      of: 'a',
      about: [0, 0, 0],
      covariance: Array.from({ length: 36 }, (_, i) => (i % 7 ? 0 : i < 21 ? turn ** 2 : shift[i / 7 - 3] ** 2)),
      ...(free ? { free } : {}),
    })
    const still = { pose: pose(0, [0, 0, 0]), middle: [0, 0, 0] }
    const s = leastKnownStretch([
      still,
      { pose: pose(0, [0.1, 0.02, 0.02]), middle: [100, 0, 0] },
      { pose: pose(0, [9, 9, 9], [[0, 0, 0, 1, 0, 0]]), middle: [1, 1, 1] },
      { pose: { of: 'b', about: [0, 0, 0], covariance: null }, middle: [1, 1, 1] },
    ])!
    expect([s.over, s.lengthwise, s.sigma]).toEqual([100, true, 0.1])
    expect(s.axis.map(Math.abs)).toEqual([1, 0, 0])
    const turned = leastKnownStretch([still, { pose: pose(0.001, [0.1, 0.1, 0.1]), middle: [300, 0, 0] }])!
    expect(turned.sigma).toBeCloseTo(Math.hypot(0.1, 0.3), 9)
    expect(turned.lengthwise).toBe(false)
    expect(leastKnownStretch([still])).toBeUndefined()
  })
  it('along a print grows with its length, in widths of a view', () => {
    const middles = Array.from({ length: 31 }, (_, k) => [0, -10 * k, 0])
    const s = printedStretch(middles, 100, 0.05)!
    expect([s.over, s.lengthwise, s.axis.map(Math.abs)]).toEqual([300, true, [0, 1, 0]])
    expect(s.sigma).toBeCloseTo(0.245, 3)
    expect(printedStretch(middles, 100, 0.1)!.sigma).toBeCloseTo(2 * s.sigma, 9)
    expect(printedStretch([[1, 2, 3]], 100, 0.05)).toBeUndefined()
    expect(printedStretch(middles, 100, Infinity)).toBeUndefined()
  })
})
