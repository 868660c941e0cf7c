import { describe, expect, test } from '@jest/globals'
import { quietContext, type Parallel } from '../src/base/run.ts'
import { summarise } from '../src/base/stats.ts'
import { scanRange, type RangeView } from '../src/scanner/rangeview.ts'
import { makeMesh } from '../src/shape/mesh.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { boxMesh } from './help.ts'

const view: RangeView = {
  eye: [20, 15, 300],
  target: [20, 15, 10],
  pitch: 0.5,
  halfWidth: 30,
  halfHeight: 25,
  noise: 0.03,
  baseline: 0,
  maxIncidence: 75,
  strays: 0,
  seed: 3,
}
const box = boxMesh(40, 30, 10)
const bvh = buildBvh(box)

describe('the stand-in scanner', () => {
  test('sees the top from above, with the noise along the ray, and keeps the truth', async () => {
    const { points, truth } = await scanRange(box, bvh, view)
    expect(points.viewpoint).toEqual(view.eye)
    // 81 x 61 rays meet the top, less a rim by the slant of the rays
    expect(points.xyz.length / 3).toBeGreaterThan(75 * 55)
    expect(points.xyz.length / 3).toBeLessThanOrEqual(81 * 61)
    const heights = summarise(truth.filter((_, i) => i % 3 === 2))
    expect([heights.min, heights.max]).toEqual([10, 10])
    const errors = summarise(points.xyz.filter((_, i) => i % 3 === 2).map((z) => z - 10))
    expect(errors.std).toBeCloseTo(0.03, 2)
    expect(Math.abs(errors.mean)).toBeLessThan(0.002)
  })
  test('what the projector does not light is not seen', async () => {
    // a tower of 30 mm throws a shadow to the far side of the projector
    const tower = boxMesh(6, 6, 30)
    const scene = makeMesh({
      vertices: Float32Array.of(...box.vertices, ...tower.vertices.map((v, i) => v + [17, 12, 10][i % 3])),
      triangles: Uint32Array.of(...box.triangles, ...tower.triangles.map((v) => v + 8)),
    })
    const seen = async (baseline: number) => {
      const { truth } = await scanRange(scene, buildBvh(scene), { ...view, baseline })
      const side = (low: number, high: number) =>
        truth.filter((v, i) => i % 3 === 0 && v > low && v < high && Math.abs(truth[i + 1] - 15) < 2.5 && truth[i + 2] < 11).length
      return [side(8, 17), side(23, 32)]
    }
    const [left, right] = await seen(0)
    expect(Math.abs(left - right)).toBeLessThan(0.1 * left)
    const lit = await seen(150)
    expect(Math.min(...lit)).toBeLessThan(0.5 * Math.max(...lit))
  })
  test('too slant is not seen', async () => {
    const low = { ...view, eye: [320, 15, 40] as [number, number, number] }
    const wide = (await scanRange(box, bvh, { ...low, maxIncidence: 88 })).truth
    const strict = (await scanRange(box, bvh, { ...low, maxIncidence: 60 })).truth
    const top = (t: Float32Array) => t.filter((z, i) => i % 3 === 2 && z > 9.999).length
    expect(top(wide)).toBeGreaterThan(100)
    expect(top(strict)).toBe(0)
    expect(strict.length).toBeGreaterThan(0)
  })
  test('strays are as many as asked for', async () => {
    const { points, truth } = await scanRange(box, bvh, { ...view, noise: 0, strays: 0.05 })
    const far = points.xyz.filter((v, i) => i % 3 === 2 && Math.abs(v - truth[i]) > 0.01).length
    expect(far / (truth.length / 3)).toBeGreaterThan(0.04)
    expect(far / (truth.length / 3)).toBeLessThan(0.06)
  })
  test('the same for a seed, on any number of threads; another seed is another scan', async () => {
    const reversed: Parallel = {
      threads: 2,
      map(kernel, args, count) {
        const rows = Array.from({ length: count }, (_, i) => count - 1 - i).map((i) => [i, kernel.run(args, i, i + 1)] as const)
        return Promise.resolve(rows.sort((a, b) => a[0] - b[0]).map((r) => r[1]))
      },
    }
    const a = (await scanRange(box, bvh, view)).points.xyz
    expect([...(await scanRange(box, bvh, view, { ...quietContext, parallel: reversed })).points.xyz]).toEqual([...a])
    expect([...(await scanRange(box, bvh, { ...view, seed: 4 })).points.xyz]).not.toEqual([...a])
  })
  test('a limit thins evenly', async () => {
    const { points, truth } = await scanRange(box, bvh, { ...view, limit: 1000 })
    expect([points.xyz.length, truth.length]).toEqual([3000, 3000])
    const x = summarise(points.xyz.filter((_, i) => i % 3 === 0))
    expect(x.mean).toBeCloseTo(20, 0)
    expect(x.max - x.min).toBeGreaterThan(35)
  })
})
