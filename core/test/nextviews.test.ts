import { describe, expect, it } from '@jest/globals'
import { identity } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { nextViews } from '../src/capture/nextviews.ts'
import { growingSurface } from '../src/capture/surface.ts'
import { MATERIALS, type Thing } from '../src/scanner/scene.ts'
import { lookingAt } from '../src/scanner/seemarkers.ts'
import { takeShot } from '../src/scanner/shot.ts'
import { designedStereo, type ScannerSpec } from '../src/scanner/spec.ts'
import type { Mesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh } from './help.ts'
import { at } from './tray.ts'

const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
const range = { near: 300, ideal: 450, far: 700 }
const spec = { design: optics, range } as unknown as ScannerSpec

/** A part before a scanner, and the surface that grows. */
function before(mesh: Mesh) {
  const things: Thing[] = [{ kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS.matte }]
  const surface = growingSurface(3, 0.08)
  let n = 0
  return {
    surface,
    see(eye: ArrayLike<number>, target: ArrayLike<number>, frames = 8) {
      for (let k = 0; k < frames; k++) {
        const pose = lookingAt(eye, target)
        surface.addFrame(takeShot(spec, optics, optics, things, { pose, pattern: 'area', exposure: 1, stride: 3, noise: 0.03, seed: 5 + n }).xyz, pose, n++)
      }
    },
  }
}
const round = (degrees: number, up: number): [number, number, number] => {
  const [a, e] = [degrees, up].map((d) => (d * Math.PI) / 180)
  return [450 * Math.cos(e) * Math.cos(a), 450 * Math.cos(e) * Math.sin(a), 30 + 450 * Math.sin(e)]
}
// a block on its table, and nothing of the table
const block = at(boxMesh(120, 90, 60), -60, -45, 0)
const reachable = (_x: number, _y: number, z: number) => z > 20

describe('from where it should be seen next', () => {
  it('from the side that was not seen; when that was, hardly anything is left', async () => {
    const { surface, see } = before(block)
    for (const a of [-40, -20, 0, 20, 40]) see(round(a, 40), [0, 0, 30])
    const first = await nextViews(surface, { range, reachable }, quietContext)
    expect(first.views.length).toBeGreaterThan(0)
    expect(first.poor).toBeGreaterThan(100)
    // seen was from +x: what is missing lies beyond the other edges of the top
    const sides = first.views.map((v) => v.at)
    expect(sides.some(([x]) => x < -50)).toBe(true)
    expect(sides.some(([, y]) => Math.abs(y) > 100)).toBe(true)
    for (const { at, looks } of first.views) {
      expect(Math.hypot(...looks)).toBeCloseTo(1, 9)
      expect(reachable(...at)).toBe(true)
    }
    // as it is told, and again, until nothing new is told
    let poor = first.poor
    for (let round = 0; round < 4; round++) {
      const { views } = await nextViews(surface, { range, reachable }, quietContext)
      for (const { at, looks } of views)
        see(
          at,
          at.map((v, i) => v + 450 * looks[i]),
        )
      poor = (await nextViews(surface, { range, reachable }, quietContext)).poor
    }
    // the lower edge stays open: the table is not there, and what stands on it is seen from nowhere
    const last = await nextViews(surface, { range, reachable }, quietContext)
    expect(poor).toBeLessThan(0.7 * first.poor)
    expect(last.views.reduce((s, v) => s + v.gain, 0)).toBeLessThan(0.5 * first.views.reduce((s, v) => s + v.gain, 0))
    const [faces, cubes] = [[0, 0, 0, 0, 0], surface.cubes()]
    const p = new Float32Array(6)
    for (let k = 0; k < cubes; k++) {
      surface.middleOf(k, p, 0)
      const [x, y, z] = p
      if (z > 59) faces[0]++
      else if (x > 59) faces[1]++
      else if (x < -59) faces[2]++
      else if (y > 44) faces[3]++
      else if (y < -44) faces[4]++
    }
    // each side of the block has its cubes: 120 x 90, 90 x 60, 120 x 60 at 3 mm
    expect(faces.map((n, k) => n > 0.8 * [1200, 600, 600, 800, 800][k])).toEqual([true, true, true, true, true])
  })
  it('what was seen seldom is asked for, and nothing of what is well known; nothing at all of nothing', async () => {
    const { surface, see } = before(at(boxMesh(400, 400, 4), -200, -200, -4))
    see([0, 0, 450], [0, 0, 0], 2)
    const few = await nextViews(surface, { range, reachable, enough: 6 }, quietContext)
    expect(few.views[0].looks[2]).toBeLessThan(-0.6)
    expect(few.poor).toBeGreaterThan(0.7 * surface.cubes())
    expect(await nextViews(growingSurface(3, 0.08), { range }, quietContext)).toEqual({ views: [], poor: 0, never: 0 })
  })
  it('what no hand can reach is said to be seen never; it can be cancelled', async () => {
    const { surface, see } = before(block)
    see(round(0, 40), [0, 0, 30])
    const { views, poor, never } = await nextViews(surface, { range, reachable: () => false }, quietContext)
    expect([views, poor > 50, never]).toEqual([[], true, poor])
    await expect(nextViews(surface, { range }, { ...quietContext, signal: { aborted: true } })).rejects.toMatchObject({ name: 'Cancelled' })
  })
})
