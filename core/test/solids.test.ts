import { describe, expect, test } from '@jest/globals'
import { f32 } from '../src/base/arrays.ts'
import { identity, translation } from '../src/base/mat4.ts'
import { quietContext } from '../src/base/run.ts'
import { deviationTo } from '../src/inspect/deviation.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { mergePasses } from '../src/merge/merge.ts'
import { runOperation } from '../src/operations/registry.ts'
import type { Field, Item } from '../src/operations/operation.ts'
import { closeGaps } from '../src/repair/gaps.ts'
import { reduceMesh } from '../src/repair/reduce.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { makePoints, type Points } from '../src/shape/points.ts'
import { boxMesh, oakError, randomPoints, sphereMesh, value } from './help.ts'
import { cube, place, sphere, torus } from './shapes.ts'

describe('solids with closed formulae come back out of the merge: volume and area within 0.1 %', () => {
  const cases: [string, Points, number, number, number][] = [
    ['sphere of 20 mm radius', sphere(20, 0.3), (4 / 3) * Math.PI * 8000, 4 * Math.PI * 400, 0],
    ['torus 20 / 7 mm', torus(20, 7, 0.3), 2 * Math.PI ** 2 * 20 * 49, 4 * Math.PI ** 2 * 140, 0],
    ['cube of 30 mm', cube(30, 0.25), 27_000, 5400, 360],
  ]
  test.each(cases)(
    '%s',
    async (_name, points, volume, area, edges) => {
      const { mesh, crispLength } = await mergePasses([place(points)], { cell: 0.3, closing: 'closed' }, quietContext)
      const facts = meshFacts(mesh)
      expect(facts.topology.openEdges).toBe(0)
      expect(facts.topology.nonManifoldEdges).toBe(0)
      expect(facts.topology.components).toBe(1)
      expect(Math.abs(facts.volume / volume - 1)).toBeLessThan(1e-3)
      expect(Math.abs(facts.area / area - 1)).toBeLessThan(1e-3)
      // twelve edges of 30 mm, and none on what is round
      expect(Math.abs(crispLength - edges)).toBeLessThan(0.01 * edges + 1e-9)
    },
    240_000,
  )
  test('edges come out rounded when crisp ones are not wanted', async () => {
    const { mesh, crispLength } = await mergePasses([place(cube(30, 0.5))], { cell: 0.6, crisp: false }, quietContext)
    expect(crispLength).toBe(0)
    expect(meshFacts(mesh).area / 5400).toBeLessThan(0.99)
  })
  test('a torus stays a ring: genus 1', async () => {
    const { mesh } = await mergePasses([place(torus(20, 7, 0.5))], { cell: 0.6 }, quietContext)
    const edges = (3 * mesh.triangles.length) / 6
    expect(mesh.vertices.length / 3 - edges + mesh.triangles.length / 3).toBe(0)
  })
  test('open where nothing was seen; closed on demand, and then flagged not measured', async () => {
    const whole = sphere(15, 0.4)
    const half: number[] = []
    const n: number[] = []
    for (let i = 0; i < whole.xyz.length; i += 3)
      if (whole.xyz[i + 2] > -9) {
        half.push(...whole.xyz.subarray(i, i + 3))
        n.push(...(whole.normals as Float32Array).subarray(i, i + 3))
      }
    const points = makePoints({ xyz: f32(half.length).map((_, i) => half[i]), normals: f32(n.length).map((_, i) => n[i]) })
    const open = meshFacts((await mergePasses([place(points)], { cell: 0.5 }, quietContext)).mesh)
    expect(open.topology.openEdges).toBeGreaterThan(50)
    expect(open.topology.borders).toBe(1)
    const closed = meshFacts((await mergePasses([place(points)], { cell: 0.5, closing: 'closed' }, quietContext)).mesh)
    expect(closed.topology.openEdges).toBe(0)
    expect(closed.unmeasuredShare).toBeGreaterThan(0.1)
  }, 120_000)
})

describe('closing gaps', () => {
  /** A ball without the triangles whose middle lies above z, and without a strip that leaves a large border below. */
  const holed = (above: number, below = -99): Mesh => {
    const m = sphereMesh(20, 60)
    const keep: number[] = []
    for (let i = 0; i < m.triangles.length; i += 3) {
      const z = [0, 1, 2].reduce((s, k) => s + m.vertices[3 * m.triangles[i + k] + 2] / 3, 0)
      if (z < above && z > below) keep.push(...m.triangles.subarray(i, i + 3))
    }
    return { ...m, triangles: Uint32Array.from(keep) }
  }
  test('a small gap is closed as fine as its border, flagged, and the measured part is untouched', () => {
    const bare = holed(19.6)
    const before = makeMesh({ ...bare, colours: new Uint8Array(bare.vertices.length).map((_, i) => [200, 100, 50][i % 3]) })
    const r = closeGaps(before, { size: 10 }, quietContext)
    expect([...(r.mesh.colours as Uint8Array).slice(-3)]).toEqual([200, 100, 50])
    expect((r.mesh.colours as Uint8Array).length).toBe(r.mesh.vertices.length)
    const facts = meshFacts(r.mesh)
    expect([r.closed, r.left, facts.topology.openEdges, facts.topology.nonManifoldEdges, facts.topology.flippedEdges]).toEqual([1, 0, 0, 0, 0])
    expect([...r.mesh.vertices.subarray(0, before.vertices.length)]).toEqual([...before.vertices])
    // the cap of height 0.4 mm has an area of 2 pi r h; the membrane is a little less
    expect(Math.abs(r.area / (2 * Math.PI * 20 * 0.4) - 1)).toBeLessThan(0.1)
    expect(facts.unmeasuredShare).toBeGreaterThan(0.005)
    expect(Math.abs(facts.volume / ((4 / 3) * Math.PI * 8000) - 1)).toBeLessThan(0.003)
  })
  test('what is larger stays open and is told', () => {
    const r = closeGaps(holed(19.6, -10), { size: 10 }, quietContext)
    expect([r.closed, r.left]).toEqual([1, 1])
    expect(r.largestLeft).toBeGreaterThan(30)
    expect(meshFacts(r.mesh).topology.borders).toBe(1)
  })
  test('no edge is put where the mesh has one already, though it would be the shortest', () => {
    // two faces of a tetrahedron: across the gap the edge they share is nearer than the other way
    const v = Float32Array.of(0.5, 1, 2, 0, 0, 0, 0.5, -1, 2, 1, 0, 0)
    const m = makeMesh({ vertices: v, triangles: Uint32Array.of(0, 3, 1, 1, 3, 2) })
    const r = closeGaps(m, { size: 9 }, quietContext)
    const { topology, volume } = meshFacts(r.mesh)
    expect([r.closed, topology.openEdges, topology.nonManifoldEdges, topology.flippedEdges]).toEqual([1, 0, 0, 0])
    // a sixth of the triple product
    expect(Math.abs(volume)).toBeCloseTo(2 / 3, 2)
  })
  test('the rim of a sheet is no gap: nothing is laid back to back on it', () => {
    const n = 9
    const vertices = Float32Array.from({ length: 3 * n * n }, (_, i) => [Math.floor(i / 3) % n, Math.floor(i / 3 / n), 0.02 * (i % 5)][i % 3])
    const triangles: number[] = []
    for (let y = 0; y + 1 < n; y++)
      for (let x = 0; x + 1 < n; x++) triangles.push(y * n + x, y * n + x + 1, (y + 1) * n + x, y * n + x + 1, (y + 1) * n + x + 1, (y + 1) * n + x)
    // one triangle out of its middle is a gap
    const sheet = makeMesh({ vertices, triangles: Uint32Array.from([...triangles.slice(0, 180), ...triangles.slice(183)]) })
    const r = closeGaps(sheet, { size: 50 }, quietContext)
    expect([r.closed, r.left]).toEqual([1, 1])
    expect(r.area).toBeLessThan(1)
    expect(meshFacts(r.mesh).area).toBeCloseTo(meshFacts(makeMesh({ vertices, triangles: Uint32Array.from(triangles) })).area, 3)
  })
  test('a closed body and a size of nothing', () => {
    expect(closeGaps(boxMesh(5, 5, 5), {}, quietContext).closed).toBe(0)
    expect(() => closeGaps(boxMesh(5, 5, 5), { size: 0 }, quietContext)).toThrow('above 0 mm')
  })
})

describe('reduction says what it did', () => {
  test('to a count: the stated deviation is the measured one', async () => {
    const m = sphereMesh(20, 96)
    const r = await reduceMesh(m, { triangles: 3000 }, quietContext)
    expect(r.mesh.triangles.length / 3).toBeLessThanOrEqual(3000)
    const d = await deviationTo(r.mesh, m.vertices, 5, quietContext)
    const largest = Math.max(...d.values.map(Math.abs))
    expect(largest).toBeLessThanOrEqual(r.maxDeviation + 1e-4)
    expect(r.maxDeviation).toBeLessThan(0.2)
  })
  test('to a permitted deviation: it is kept', async () => {
    const r = await reduceMesh(sphereMesh(20, 96), { deviation: 0.05 }, quietContext)
    expect(r.maxDeviation).toBeLessThanOrEqual(0.05)
    expect(r.mesh.triangles.length / 3).toBeLessThan(12_000)
  })
  test('what was filled stays flagged, to the square millimetre, and no measured surface becomes flagged', async () => {
    // a level plate of 40 x 40 mm in cells of half a millimetre, a round of 5 mm radius in it filled
    const n = 81
    const vertices = Float32Array.from({ length: 3 * n * n }, (_, i) => [(Math.floor(i / 3) % n) / 2, Math.floor(i / 3 / n) / 2, 0][i % 3])
    const triangles: number[] = []
    const unmeasured: number[] = []
    for (let y = 0; y + 1 < n; y++)
      for (let x = 0; x + 1 < n; x++) {
        const a = y * n + x
        triangles.push(a, a + 1, a + n, a + 1, a + n + 1, a + n)
        const filled = Math.hypot(x / 2 - 20, y / 2 - 20) < 5 ? 1 : 0
        unmeasured.push(filled, filled)
      }
    const plate = makeMesh({ vertices, triangles: Uint32Array.from(triangles), unmeasured: Uint8Array.from(unmeasured) })
    const before = meshFacts(plate)
    const r = await reduceMesh(plate, { deviation: 0.01 }, quietContext)
    const after = meshFacts(r.mesh)
    expect(after.triangles).toBeLessThan(400)
    expect(after.area).toBeCloseTo(1600, 3)
    expect(after.unmeasuredShare).toBeCloseTo(before.unmeasuredShare, 6)
  })
  test('more triangles than there are, and a mesh of two, change nothing', async () => {
    const box = boxMesh(5, 5, 5)
    expect((await reduceMesh(box, { triangles: 900, deviation: 0.1 }, quietContext)).mesh.triangles.length).toBe(36)
    const two = makeMesh({ vertices: Float32Array.of(0, 0, 0, 1, 0, 0, 0, 1, 0, 1, 1, 0), triangles: Uint32Array.of(0, 1, 2, 1, 3, 2) })
    expect((await reduceMesh(two, { deviation: 0.1 }, quietContext)).mesh.triangles.length).toBe(6)
  })
  test('without a target it asks for one', async () => {
    expect((await oakError(reduceMesh(boxMesh(1, 1, 1), {}, quietContext))).code).toBe('bad-target')
  })
})

describe('deviation: exact distances, sign right at edges and corners', () => {
  test('around a box, against the closed formula', async () => {
    const points = randomPoints(4000, 60, 3)
    const d = await deviationTo(boxMesh(20, 20, 20), points, 100, quietContext)
    for (let i = 0; i < 4000; i++) {
      const q = [0, 1, 2].map((k) => Math.abs(points[3 * i + k] - 10) - 10)
      const outside = Math.hypot(...q.map((v) => Math.max(0, v)))
      const want = outside > 0 ? outside : Math.max(...q)
      expect(d.values[i]).toBeCloseTo(want, 4)
    }
  })
  test('statistics are weighted by area: a part twice as dense on one side counts the same', async () => {
    // a ball of rings lies closer and closer towards its poles; lifted by 0.2 mm, what looks up by more than 30 degrees is beyond 0.1 mm: a quarter of the area
    const part: Item<Mesh> = { name: 'part', data: sphereMesh(10, 80), pose: translation(0, 0, 0.2) }
    const nominal: Item<Mesh> = { name: 'nominal', data: sphereMesh(10, 300), pose: identity() }
    const r = await runOperation('deviation', { measured: [part], nominal: [nominal] }, { limit: 0.1 }, quietContext)
    const values = (r.outputs['field'] as Item<Field>[])[0].data.values
    const share = (100 * values.filter((v) => v > 0.1).length) / values.length
    expect(Math.abs(share - 25)).toBeGreaterThan(4)
    expect(Math.abs(Number(value(r.evidence, 'extra-beyond')) - 25)).toBeLessThan(1.5)
  })
})
