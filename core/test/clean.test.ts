import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { identity, translation } from '../src/base/mat4.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { insideLasso } from '../src/clean/lasso.ts'
import { abovePlane, fitPlane, planeThrough } from '../src/clean/plane.ts'
import { findIslands, findStrays } from '../src/clean/strays.ts'
import { thinPoints } from '../src/clean/thin.ts'
import type { Item } from '../src/operations/operation.ts'
import { runOperation } from '../src/operations/registry.ts'
import { estimateNormals } from '../src/shape/normals.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { boxMesh, fixtureJson, oakError, sphereMesh } from './help.ts'

const flat = (list: number[][]) => f32(3 * list.length).map((_, i) => list[Math.floor(i / 3)][i % 3])

describe('plane fit against 40-digit least squares (fits/planes.json: mpmath 1.2.1 and SciPy 1.10.1)', () => {
  test.each(fixtureJson('fits/planes.json').cases.map((c: any) => [c.id, c]) as [string, any][])('%s: 1e-6 mm and 1e-6 deg', (_id, c) => {
    const p = fitPlane(c.points_mm.flat(), 1)
    const { normal, offset_n_dot_x: offset, sum_of_squares_mm2: ss } = c.reference
    const s = p.normal[0] * normal[0] + p.normal[1] * normal[1] + p.normal[2] * normal[2] < 0 ? -1 : 1
    const cross = Math.hypot(
      p.normal[1] * normal[2] - p.normal[2] * normal[1],
      p.normal[2] * normal[0] - p.normal[0] * normal[2],
      p.normal[0] * normal[1] - p.normal[1] * normal[0],
    )
    expect((Math.asin(cross) * 180) / Math.PI).toBeLessThan(1e-6)
    // where the data lie, not at the far origin
    const at = c.reference.point_nearest_centroid
    expect(Math.abs(s * (p.normal[0] * at[0] + p.normal[1] * at[1] + p.normal[2] * at[2] - p.offset))).toBeLessThan(1e-6)
    expect(Math.abs(normal[0] * at[0] + normal[1] * at[1] + normal[2] * at[2] - offset)).toBeLessThan(1e-6)
    // sigma has three degrees of freedom taken off
    expect(p.sigma).toBeCloseTo(Math.sqrt(ss / (c.points_mm.length - 3)), 8)
  })
  test('what stands on the table does not tilt it', () => {
    const random = seeded(1)
    const p: number[] = []
    for (let i = 0; i < 900; i++) p.push(40 * random.next(), 40 * random.next(), 0.02 * random.gauss())
    for (let i = 0; i < 100; i++) p.push(36 + 4 * random.next(), 40 * random.next(), 2 + 6 * random.next())
    const plain = fitPlane(p, 1)
    const robust = fitPlane(p)
    expect(Math.abs(robust.normal[2])).toBeGreaterThan(0.999995)
    expect(Math.abs(plain.normal[2])).toBeLessThan(0.9995)
    expect(robust.used).toBeLessThanOrEqual(900)
  })
  test('through three places; above it, raised', () => {
    const plane = planeThrough([0, 0, 1], [5, 0, 1], [0, 5, 1])
    expect(plane).toEqual({ normal: [0, 0, 1], offset: 1 })
    expect([
      ...abovePlane(
        flat([
          [0, 0, 0.9],
          [0, 0, 1.2],
          [0, 0, 1.4],
        ]),
        plane,
        0.3,
      ),
    ]).toEqual([0, 0, 1])
    expect(() => planeThrough([0, 0, 0], [1, 1, 1], [2, 2, 2])).toThrow('one line')
    expect(() => fitPlane([0, 0, 0, 1, 1, 1])).toThrow('three points')
  })
})

/** An even raster of 40 x 40 mm. */
const raster = (step: number, z = 0) => {
  const list: number[][] = []
  for (let x = 0; x <= 40; x += step) for (let y = 0; y <= 40; y += step) list.push([x, y, z])
  return list
}

describe('strays, islands, thinning', () => {
  test('every stray is found and no point of the surface is lost', async () => {
    const random = seeded(3)
    const surface = raster(0.5).map((p) => [p[0] + 0.05 * random.gauss(), p[1] + 0.05 * random.gauss(), 0.02 * random.gauss()])
    const strays = Array.from({ length: 25 }, () => [40 * random.next(), 40 * random.next(), 3 + 20 * random.next()])
    const keep = await findStrays(flat([...surface, ...strays]), 12, 4, quietContext)
    expect([...keep.subarray(surface.length)]).toEqual(Array(25).fill(0))
    expect(keep.subarray(0, surface.length).reduce((s, k) => s + k, 0)).toBeGreaterThan(0.995 * surface.length)
  })
  test('islands are told by the step between them, the largest first', () => {
    const p = flat([
      ...raster(1),
      ...raster(1)
        .slice(0, 200)
        .map(([x, y]) => [x, y, 9]),
      ...raster(1)
        .slice(0, 50)
        .map(([x, y]) => [x, y, 30]),
    ])
    expect(findIslands(p, 3).sizes).toEqual([41 * 41, 200, 50])
    expect(findIslands(p, 12).sizes).toEqual([41 * 41 + 200, 50])
    expect(findIslands(p, 3).islandOf[41 * 41 + 1]).toBe(1)
  })
  test('thinning keeps measured points only, one a cube', () => {
    const p = makePoints({ xyz: flat(raster(0.25)) })
    const t = thinPoints(p, 2)
    const all = new Set(raster(0.25).map((q) => q.map(Math.fround).join()))
    for (let i = 0; i < t.xyz.length; i += 3) expect(all.has([...t.xyz.subarray(i, i + 3)].join())).toBe(true)
    expect(t.xyz.length / 3).toBe(21 * 21)
    expect(thinPoints(p, 0)).toBe(p)
  })
  test.each([0, 1, 2])('points a millimetre apart along axis %p alone stay, wherever they lie', (axis) => {
    for (const at of [0, -5000, 1e6]) {
      const xyz = new Float32Array(1200)
      for (let i = 0; i < 400; i++) xyz[3 * i + axis] = at + i + 0.5
      expect(thinPoints(makePoints({ xyz }), 1).xyz.length / 3).toBe(400)
    }
  })
})

describe('selections by a loop', () => {
  const top = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]
  const square = [-0.5, -0.5, 0.5, -0.5, 0.5, 0.5, -0.5, 0.5]
  const points = flat([
    [0, 0, 0.9],
    [0, 0, 0],
    [0.8, 0, 0],
    [0.4, -0.4, 0.1],
  ])
  test('right through', () => {
    expect([...insideLasso(points, { view: top, loop: square }, [0, 0, -1])]).toEqual([1, 1, 0, 1])
  })
  test('front only spares what a nearer surface hides', () => {
    expect([...insideLasso(points, { view: top, loop: square, frontDepth: 0.2 }, [0, 0, -1])]).toEqual([1, 0, 0, 1])
  })
  test('what lies behind the camera is never inside', () => {
    const behind = [...top]
    behind[15] = -1
    expect([...insideLasso(points, { view: behind, loop: square }, [0, 0, -1])]).toEqual([0, 0, 0, 0])
  })
  test('a second loop takes out of the first; inverted, the rest goes', async () => {
    const item: Item<Points> = { name: 'p', data: makePoints({ xyz: flat(raster(1).map(([x, y]) => [x / 20 - 1, y / 20 - 1, 0])) }), pose: identity() }
    const small = square.map((v) => v / 2)
    const left = async (params: unknown) =>
      ((await runOperation('lasso', { passes: [item] }, params, quietContext)).outputs['passes'] as Item<Points>[])[0].data.xyz.length / 3
    const add = { view: top, loop: square, depth: [0, 0, -1] }
    const all = 41 * 41
    const kept = await left({ loops: [add] })
    expect(await left({ loops: [add, { ...add, loop: small, mode: 'remove' }] })).toBeGreaterThan(kept)
    expect(await left({ loops: [add], invert: true })).toBe(all - kept)
  })
})

describe('normals look out of the material', () => {
  test.each([
    ['a ball', sphereMesh(20, 40)],
    ['a box with sharp edges', boxMesh(40, 30, 20)],
  ])('of %s, where it is not known where the scanner stood', async (_name, mesh) => {
    const sampled = sampleMesh(mesh, 12_000)
    const r = await estimateNormals(makePoints({ xyz: sampled.xyz }), {}, quietContext)
    expect(r.orientation).toBe('guessed')
    let right = 0
    for (let i = 0; i < sampled.xyz.length; i += 3) {
      const c = [0, 1, 2].reduce((s, k) => s + r.points.normals[i + k] * sampled.normals[i + k], 0)
      if (c > 0.9) right++
    }
    expect(right / 12_000).toBeGreaterThan(0.97)
  })
  test('towards the scanner, where that is known', async () => {
    const r = await estimateNormals(makePoints({ xyz: flat(raster(1)), viewpoint: [20, 20, -300] }), {}, quietContext)
    expect(r.orientation).toBe('viewpoint')
    for (let i = 2; i < r.points.normals.length; i += 3) expect(r.points.normals[i]).toBeCloseTo(-1, 4)
  })
})

describe('the operation trims where the pass lies in the job', () => {
  const pass: Item<Points> = {
    name: 'p',
    data: makePoints({ xyz: flat([...raster(1), ...raster(1).map(([x, y]) => [x, y, 8])]) }),
    pose: translation(0, 0, 100),
  }
  test('a fitted patch says how flat it is', async () => {
    const r = await runOperation('trim-plane', { passes: [pass] }, { patch: { at: [20, 20, 100], radius: 6 } }, quietContext)
    expect((r.outputs['passes'] as Item<Points>[])[0].data.xyz.length / 3).toBe(41 * 41)
    expect(r.evidence.quantities.find((q) => q.id === 'flatness-of-the-patch-rms')?.value).toBeLessThan(1e-6)
  })
  test('without a plane it asks for one', async () => {
    expect((await oakError(runOperation('trim-plane', { passes: [pass] }, {}, quietContext))).code).toBe('no-plane')
  })
})
