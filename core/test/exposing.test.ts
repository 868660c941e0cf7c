import { describe, expect, it } from '@jest/globals'
import { fromRotationVector, identity, transformPoint } from '../src/base/mat4.ts'
import { autoExposure, levelsAround, usualExposure, type Surface } from '../src/capture/exposing.ts'
import { inReach } from '../src/capture/reach.ts'
import { wayRound } from '../src/capture/wayround.ts'
import { q } from '../src/operations/quantities.ts'
import { MATERIALS, type Thing } from '../src/scanner/scene.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo } from '../src/scanner/spec.ts'
import { makeMesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 660, baseline: 140, crossing: 400 })
/** a low hip roof: one slope after the other mirrors the light on a way round */
const corners = [-60, -45, 0, 60, -45, 0, 60, 45, 0, -60, 45, 0, -15, 10, 45, 20, 10, 45]
const triangles = [0, 2, 1, 0, 3, 2, 0, 1, 5, 0, 5, 4, 1, 2, 5, 2, 3, 4, 2, 4, 5, 3, 0, 4]
const mesh = makeMesh({ vertices: Float32Array.from(corners), triangles: Uint32Array.from(triangles) })
const bvh = buildBvh(mesh)
const ROUND = 24

/** The light in frame k of a way round a roof of that surface. */
function lit(surface: Surface) {
  const things: Thing[] = [{ kind: 'mesh', mesh, bvh, pose: identity(), material: MATERIALS[surface] }]
  const range = { near: 250, ideal: 400, far: 550 }
  return (k: number, exposure: number) =>
    takeShot({ range }, optics, optics, things, {
      pose: wayRound([-60, -45, 0, 60, 45, 45], range.ideal, (k % ROUND) / ROUND),
      pattern: 'area',
      exposure,
      stride: 10,
      noise: 0.03,
      seed: 5 + k,
    })
}
/** Mean over a second way round of what is too dark and too bright there, after a first one. */
function led(surface: Surface, from: number) {
  const shot = lit(surface)
  const next = autoExposure()
  let [exposure, dark, bright, changes] = [from, 0, 0, 0]
  for (let k = 0; k < 3 * ROUND; k++) {
    const s = shot(k, exposure)
    if (k >= 2 * ROUND) [dark, bright] = [dark + s.dark / ROUND, bright + s.bright / ROUND]
    const to = next(exposure, s)
    if (k >= 2 * ROUND && to !== exposure) changes++
    exposure = to
  }
  return { exposure, dark, bright, changes }
}

describe('an exposure that sets itself', () => {
  // what a stand-in's light does to a surface: own model, in scanner/shot.ts
  it.each(['matte', 'dark', 'glossy'] as const)('finds one at which a %s roof is measured, wherever it begins', (surface) => {
    for (const from of [0.1, 1, 8]) {
      const { exposure, dark, bright } = led(surface, from)
      expect([from, exposure, dark < 0.03, bright < 0.06, dark, bright]).toEqual([from, exposure, true, true, dark, bright])
    }
  })
  it('takes of a frame what lies around a place of the model, wherever the scanner stands', () => {
    const pose = fromRotationVector(0.4, -0.8, 1.1, 300, -200, 500)
    const xyz = Float32Array.from({ length: 3000 }, (_, i) => [(i / 3) % 40, Math.floor(i / 120) * 2, 400][i % 3])
    const intensity = Uint8Array.from({ length: 1000 }, (_, i) => i % 251)
    const [x, y, z] = transformPoint(pose, 20, 24, 400)
    const near = [...levelsAround(xyz, intensity, pose, [x, y, z], 5.3)]
    const wanted = [...intensity].filter((_, i) => Math.hypot(xyz[3 * i] - 20, xyz[3 * i + 1] - 24) < 5.3)
    expect([near.length > 30, near]).toEqual([true, wanted])
    expect(levelsAround(xyz, intensity, pose, [x + 900, y, z], 5)).toHaveLength(0)
  })
  it('remembers what mirrored: a glossy part is not blown out time and again', () => {
    const shot = lit('glossy')
    const bright = (e: number) => Array.from({ length: ROUND }, (_, k) => shot(k, e).bright / ROUND).reduce((a, b) => a + b, 0)
    expect(led('glossy', 1).exposure).toBeLessThan(1.5)
    // by the middle of its levels alone it would be exposed by more than twice that
    expect(bright(3)).toBeGreaterThan(0.08)
  })
  it('leaves alone what is good, and what shows nothing', () => {
    const next = autoExposure()
    expect(next(1, { intensity: new Uint8Array(500).fill(120) })).toBe(1)
    expect(next(1, { intensity: new Uint8Array(500).fill(140) })).toBe(1)
    expect(next(1, { intensity: new Uint8Array(10).fill(9) })).toBe(1)
    expect(next(1, { intensity: new Uint8Array(0) })).toBe(1)
    expect(next(8, { intensity: new Uint8Array(500).fill(10) })).toBe(8)
    expect(next(0.1, { intensity: new Uint8Array(0), bright: 1 })).toBe(0.1)
  })
  it('sees what is not measured: all dark goes up, all bright goes down', () => {
    const next = autoExposure()
    expect(next(1, { intensity: new Uint8Array(0), dark: 0.9 })).toBeCloseTo(1.6, 9)
    expect(next(1, { intensity: new Uint8Array(0), bright: 0.9 })).toBeCloseTo(0.625, 9)
  })
  it('begins where the surface asks for it', () => {
    expect(usualExposure('matte')).toBeLessThan(usualExposure('dark'))
    expect(usualExposure('glossy')).toBeLessThan(1)
    for (const s of ['matte', 'dark', 'glossy'] as const) {
      const { dark, bright } = lit(s)(3, usualExposure(s))
      expect([s, dark < 0.05, bright < 0.05]).toEqual([s, true, true])
    }
  })
})

describe('limits along the line of sight', () => {
  const frame = { xyz: Float32Array.from([0, 0, 99, 5, 5, 100, 300, 0, 200, 0, 0, 201, NaN, 0, NaN]), intensity: Uint8Array.from([1, 2, 3, 4, 5]) }
  it('keep what lies between them, ends included, with what belongs to it', () => {
    expect(inReach(frame, { near: 100, far: 200 })).toEqual({ xyz: Float32Array.from([5, 5, 100, 300, 0, 200]), intensity: Uint8Array.from([2, 3]) })
    expect(inReach({ xyz: frame.xyz }, { near: 0, far: 100 })).toEqual({ xyz: Float32Array.from([0, 0, 99, 5, 5, 100]) })
    expect(inReach(frame, { near: 500, far: Infinity }).xyz).toHaveLength(0)
  })
  it('give the frame itself where nothing is left out', () => {
    const all = { xyz: frame.xyz.slice(0, 12) }
    expect(inReach(all, { near: 0, far: Infinity })).toBe(all)
  })
})

it('what is no number is not known: it would not outlive JSON', () => {
  expect(q('frame-sigma-median', NaN)).toEqual({ id: 'frame-sigma-median', value: 'unknown', unit: 'mm' })
  expect(q('frame-sigma-median', Infinity).value).toBe('unknown')
  expect(q('frame-sigma-median', 0.01)).toEqual({ id: 'frame-sigma-median', value: 0.01, unit: 'mm' })
})
