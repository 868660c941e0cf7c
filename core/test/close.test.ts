import { describe, expect, test } from '@jest/globals'
import { quietContext } from '../src/base/run.ts'
import { deviationTo } from '../src/inspect/deviation.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { mergePasses, type MergeOptions } from '../src/merge/merge.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { buildBvh } from '../src/space/bvh.ts'
import { prepareWinding, windingNumber } from '../src/space/winding.ts'
import { boxMesh, oakError, sphereMesh } from './help.ts'
import { cube, place, sphere, torus } from './shapes.ts'

/** The points whose place passes. */
function where(p: Points, keep: (x: number, y: number, z: number) => boolean): Points {
  const at: number[] = []
  for (let i = 0; i < p.xyz.length; i += 3) if (keep(p.xyz[i], p.xyz[i + 1], p.xyz[i + 2])) at.push(i)
  const take = (a: Float32Array) => Float32Array.from(at.flatMap((i) => [...a.subarray(i, i + 3)]))
  return makePoints({ xyz: take(p.xyz), normals: take(p.normals as Float32Array) })
}
const merged = async (p: Points, options: MergeOptions) => {
  const { mesh } = await mergePasses([place(p)], options, quietContext)
  const { topology, volume, area, unmeasuredShare } = meshFacts(mesh)
  return { mesh, ...topology, volume, area, unmeasuredShare, euler: mesh.vertices.length / 3 - mesh.triangles.length / 6 }
}

describe('closing everything by winding numbers (Jacobson 2013)', () => {
  test('a ball of which only the upper two thirds were seen: closed, the seen part untouched, the rest flagged', async () => {
    const seen = (_x: number, _y: number, z: number) => z > -4
    const r = await merged(where(sphere(12, 0.4), seen), { cell: 0.5, closing: 'closed' })
    expect([r.openEdges, r.nonManifoldEdges, r.flippedEdges, r.components, r.euler]).toEqual([0, 0, 0, 1, 2])
    // between the ball without the cap and the whole ball
    const cap = (Math.PI * 8 * 8 * (3 * 12 - 8)) / 3
    const whole = (4 / 3) * Math.PI * 12 ** 3
    // the membrane over the cut, of radius sqrt(144 - 16), lies within a cell of flat
    expect(r.volume).toBeGreaterThan(whole - cap - 0.5 * Math.PI * 128)
    expect(r.volume).toBeLessThan(whole)
    expect(r.unmeasuredShare).toBeGreaterThan(0.1)
    for (let i = 0; i < r.mesh.vertices.length; i += 3) {
      const [x, y, z] = r.mesh.vertices.subarray(i, i + 3)
      if (z > -3) expect(Math.abs(Math.hypot(x, y, z) - 12)).toBeLessThan(0.02)
    }
  })
  test('a ring keeps its hole, though a strip of it was not seen', async () => {
    const r = await merged(
      where(torus(15, 5, 0.4), (x, y) => !(x > 0 && Math.abs(y) < 1.5)),
      { cell: 0.5, closing: 'closed' },
    )
    // genus 1
    expect([r.openEdges, r.components, r.euler]).toEqual([0, 1, 0])
    expect(Math.abs(r.volume / (2 * Math.PI ** 2 * 15 * 25) - 1)).toBeLessThan(0.03)
  })
  test('a cube without its lid: the lid is flat, where the rims say', async () => {
    const r = await merged(
      where(cube(16, 0.4), (_x, _y, z) => z < 15.99),
      { cell: 0.5, closing: 'closed' },
    )
    expect([r.openEdges, r.components]).toEqual([0, 1])
    expect(Math.abs(r.volume / 16 ** 3 - 1)).toBeLessThan(0.08)
    expect(r.unmeasuredShare).toBeGreaterThan(0.12)
    expect(r.unmeasuredShare).toBeLessThan(0.25)
  })
  test('with nothing missing, closing changes nothing but what it costs', async () => {
    const [open, closed] = [await merged(sphere(10, 0.4), { cell: 0.5 }), await merged(sphere(10, 0.4), { cell: 0.5, closing: 'closed' })]
    expect([open.openEdges, closed.openEdges, closed.unmeasuredShare]).toEqual([0, 0, 0])
    expect(closed.volume).toBeCloseTo(open.volume, 3)
    const d = await deviationTo(open.mesh, closed.mesh.vertices, 5, quietContext)
    expect(Math.max(...d.values.map(Math.abs))).toBeLessThan(1e-4)
  })
  test('a scrap of a surface that nothing closes is refused, or closed within its own box, never for ever', async () => {
    const scrap = where(sphere(200, 1), (x, y, z) => z > 0 && Math.hypot(x, y) < 30)
    try {
      const r = await merged(scrap, { cell: 1.2, closing: 'closed' })
      expect(r.unmeasuredShare).toBeGreaterThan(0.2)
    } catch (e) {
      expect((e as { code: string }).code).toBe('gap-too-large')
    }
    const cancelled = mergePasses([place(scrap)], { cell: 1.2, closing: 'closed' }, { ...quietContext, signal: { aborted: true } })
    expect((await oakError(cancelled)).code).toBe('cancelled')
  })
})

describe('winding numbers', () => {
  const solid = (m: ReturnType<typeof boxMesh>) => prepareWinding(buildBvh(m))
  test.each([
    [2, 0.032],
    [3, 0.01],
    [4, 0.007],
  ])('of a ball: one inside, nothing outside; groups taken as far at %p radii: to %p', (accuracy, most) => {
    const w = solid(sphereMesh(10, 24))
    for (const r of [0, 3, 9, 11, 30, 300])
      for (const [x, y, z] of [
        [1, 0, 0],
        [0, -1, 0],
        [0.6, 0, 0.8],
      ])
        expect(Math.abs(windingNumber(w, r * x, r * y, r * z, accuracy) - (r < 10 ? 1 : 0))).toBeLessThan(most)
  })
  test('of one face of a cube from its middle: a sixth', () => {
    const box = boxMesh(2, 2, 2)
    for (let face = 0; face < 6; face++) {
      const w = solid({ ...box, triangles: box.triangles.slice(6 * face, 6 * face + 6) })
      expect(windingNumber(w, 1, 1, 1)).toBeCloseTo(1 / 6, 3)
    }
  })
  test('two bodies that overlap count twice where they do', () => {
    const [a, b] = [boxMesh(10, 10, 10), boxMesh(10, 10, 10)]
    const both = {
      ...a,
      vertices: Float32Array.of(...a.vertices, ...b.vertices.map((v, i) => v + (i % 3 === 0 ? 5 : 0))),
      triangles: Uint32Array.of(...a.triangles, ...b.triangles.map((v) => v + 8)),
    }
    const w = solid(both)
    expect([2, 7.5, 12, 20].map((x) => Math.round(100 * windingNumber(w, x, 5, 5)) / 100 + 0)).toEqual([1, 2, 1, 0])
  })
})
