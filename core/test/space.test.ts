import { deviationTo } from '../src/inspect/deviation.ts'
import { quietContext } from '../src/base/run.ts'
import { seeded } from '../src/base/random.ts'
import { buildBvh, castRay } from '../src/space/bvh.ts'
import { buildTriangleSearch, closestOnTriangle, closestTriangles, newClosest } from '../src/space/closest.ts'
import { buildCountTree, countWithin } from '../src/space/countwithin.ts'
import { buildKdTree, nearestK } from '../src/space/kdtree.ts'
import { localPlane, newLocalPlane } from '../src/shape/localplane.ts'
import { pointSpacing } from '../src/shape/spacing.ts'
import { makeMesh } from '../src/shape/mesh.ts'
import { buildRowGrid, nearestWithin, rowRuns, runsFor } from '../src/space/rowgrid.ts'
import { prepareWinding, windingNumber } from '../src/space/winding.ts'
import { boxMesh, randomPoints, sphereMesh } from './help.ts'

describe('search structures find what trying everything finds', () => {
  const n = 3000
  const xyz = randomPoints(n, 20, 1)
  const dist2 = (i: number, q: number[]) => (xyz[3 * i] - q[0]) ** 2 + (xyz[3 * i + 1] - q[1]) ** 2 + (xyz[3 * i + 2] - q[2]) ** 2
  const r = seeded(5)
  const queries = Array.from({ length: 200 }, () => [0, 1, 2].map(() => 24 * (r.next() - 0.5)))

  test('row grid with strays kilometres away: none is lost, and rows stay few', () => {
    const far = Float32Array.from(xyz)
    const strays = [
      [9e6, 0, 0],
      [0, -4e6, 2],
      [1, 2, 7e6],
      [-3e6, 5e6, -8e6],
    ]
    strays.forEach((s, k) => far.set(s, 3 * (700 * k + 5)))
    const g = buildRowGrid(far, 1)
    expect(g.ny * g.nz).toBeLessThan(1000)
    const runs = runsFor(g, 2)
    const d2 = new Float64Array(1)
    strays.forEach((s, k) => expect(g.ids[nearestWithin(g, s[0], s[1], s[2], 2, runs, d2)]).toBe(700 * k + 5))
    for (const q of queries) {
      let want = Infinity
      for (let i = 0; i < n; i++) want = Math.min(want, (far[3 * i] - q[0]) ** 2 + (far[3 * i + 1] - q[1]) ** 2 + (far[3 * i + 2] - q[2]) ** 2)
      const at = nearestWithin(g, q[0], q[1], q[2], 2, runs, d2)
      if (want <= 4) expect(d2[0]).toBeCloseTo(want, 5)
      else expect(at).toBe(-1)
    }
    // the vector kernels look at the same rows
    const plane = newLocalPlane()
    localPlane(g, 0, -4e6, 2, 2, plane)
    expect(plane.count).toBe(1)
    // and the spacing is that of the cloud
    expect(pointSpacing(far) / pointSpacing(xyz)).toBeCloseTo(1, 1)
  })
  test.each([
    ['spread', 3000, 0],
    ['lying together', 3000, 0.999],
    ['few', 5, 0],
    ['none', 0, 0],
  ])('points in a ball are counted: %s', (_, many, together) => {
    const p = xyz.slice(0, 3 * many).map((v) => v * (1 - together))
    const tree = buildCountTree(p)
    for (const radius of [0.01, 0.7, 6, 100])
      for (const [x, y, z] of queries) {
        const [qx, qy, qz] = [x, y, z].map((v) => v * (1 - together))
        let want = 0
        for (let i = 0; i < many; i++) if ((p[3 * i] - qx) ** 2 + (p[3 * i + 1] - qy) ** 2 + (p[3 * i + 2] - qz) ** 2 < radius * radius) want++
        expect(countWithin(tree, qx, qy, qz, radius)).toBe(want)
      }
    // a point is not nearer to itself than nothing
    if (many) expect(countWithin(tree, p[0], p[1], p[2], 0)).toBe(0)
  })
  test.each([0.3, 1, 2.5])('row grid with rows of %p mm', (cell) => {
    const g = buildRowGrid(xyz, cell)
    const radius = 1.7
    const runs = runsFor(g, radius)
    const d2 = new Float64Array(1)
    for (const q of queries) {
      const m = rowRuns(g, q[0], q[1], q[2], radius, runs)
      const found = new Set<number>()
      for (let k = 0; k < m; k++) for (let i = runs[2 * k]; i < runs[2 * k + 1]; i++) found.add(g.ids[i])
      let nearest = Infinity
      for (let i = 0; i < n; i++) {
        const d = dist2(i, q)
        if (d <= radius * radius) expect(found.has(i)).toBe(true)
        if (d < nearest) nearest = d
      }
      const at = nearestWithin(g, q[0], q[1], q[2], radius, runs, d2)
      if (nearest <= radius * radius) expect(d2[0]).toBeCloseTo(nearest, 10)
      else expect(at).toBe(-1)
    }
  })
  test('a stray a kilometre off does not make a giant grid', () => {
    const far = xyz.slice()
    far[1] = 1e6
    far[2] = -1e6
    const g = buildRowGrid(far, 0.01)
    expect(g.ny * g.nz).toBeLessThanOrEqual(1 << 24)
  })
  test('kd-tree, k nearest', () => {
    const tree = buildKdTree(xyz)
    const found = new Int32Array(7)
    const d2 = new Float64Array(7)
    for (const q of queries) {
      const k = nearestK(tree, q[0], q[1], q[2], 7, found, d2)
      const all = Array.from({ length: n }, (_, i) => dist2(i, q)).sort((a, b) => a - b)
      expect(k).toBe(7)
      for (let i = 0; i < 7; i++) expect(d2[i]).toBeCloseTo(all[i], 10)
    }
  })
  test('kd-tree of few points and of doubled points', () => {
    const tree = buildKdTree(new Float32Array(3 * 50).fill(2))
    expect(nearestK(tree, 0, 0, 0, 5, new Int32Array(5), new Float64Array(5))).toBe(5)
    expect(nearestK(buildKdTree(new Float32Array(3)), 1, 0, 0, 4, new Int32Array(4), new Float64Array(4))).toBe(1)
  })
  test('closest triangle: none of all the others is nearer', () => {
    const mesh = sphereMesh(8, 14)
    const search = buildTriangleSearch(mesh)
    const a = newClosest()
    const b = newClosest()
    const xyz = Float32Array.from(queries.flat())
    const order = Uint32Array.from(queries, (_, i) => i)
    const found = closestTriangles(search, xyz, order, 0, queries.length, Infinity).slice()
    for (let i = 0; i < queries.length; i++) {
      const q = xyz.subarray(3 * i, 3 * i + 3)
      closestOnTriangle(search.corners, found[i], q[0], q[1], q[2], a)
      let least = Infinity
      for (let t = 0; t < search.ids.length; t++) {
        closestOnTriangle(search.corners, t, q[0], q[1], q[2], b)
        least = Math.min(least, b.d2)
      }
      expect(Math.sqrt(a.d2)).toBeCloseTo(Math.sqrt(least), 5)
    }
  })
  test('closest triangle: slivers of a CAD tessellation, 160 mm long and a hundredth wide', () => {
    // a quarter of a round of 5 mm over 160 mm in 800 strips, two slivers each
    const strips = 800
    const vertices = Float32Array.from({ length: 6 * (strips + 1) }, (_, i) => {
      const a = (Math.PI / 2) * (Math.floor(i / 6) / strips)
      return [i % 6 < 3 ? -80 : 80, 5 * Math.cos(a), 5 * Math.sin(a)][i % 3]
    })
    const triangles = Uint32Array.from({ length: 6 * strips }, (_, i) => 2 * Math.floor(i / 6) + [0, 1, 3, 0, 3, 2][i % 6])
    const search = buildTriangleSearch(makeMesh({ vertices, triangles }))
    const q = new Float32Array(3 * 500)
    const radii: number[] = []
    for (let i = 0; i < q.length; i += 3) {
      const a = 0.1 + 1.3 * r.next()
      radii.push(5 + 0.2 * (r.next() - 0.5))
      q[i] = 140 * (r.next() - 0.5)
      q[i + 1] = radii[i / 3] * Math.cos(a)
      q[i + 2] = radii[i / 3] * Math.sin(a)
    }
    const found = closestTriangles(
      search,
      q,
      Uint32Array.from(radii, (_, i) => i),
      0,
      radii.length,
      Infinity,
    ).slice()
    const best = newClosest()
    radii.forEach((radius, i) => {
      closestOnTriangle(search.corners, found[i], q[3 * i], q[3 * i + 1], q[3 * i + 2], best)
      // the chord of a strip lies 2.4e-6 mm inside of the arc
      expect(Math.abs(Math.sqrt(best.d2) - Math.abs(radius - 5))).toBeLessThan(1e-5)
    })
  })
  test('closest triangle: beyond the largest distance, of one triangle, of a sliver, of no triangle', () => {
    const ask = (triangles: number[][], q: number[], max: number) => {
      const vertices = Float32Array.from(triangles.flat())
      const mesh = makeMesh({ vertices, triangles: Uint32Array.from({ length: vertices.length / 3 }, (_, i) => i) })
      return closestTriangles(buildTriangleSearch(mesh), Float32Array.from(q), Uint32Array.of(0), 0, 1, max)[0]
    }
    const one = [[0, 0, 0, 1, 0, 0, 0, 1, 0]]
    expect(ask(one, [0.2, 0.2, 5], Infinity)).toBe(0)
    expect(ask(one, [0.2, 0.2, 5], 4.9)).toBe(-1)
    expect(ask(one, [0.2, 0.2, 5], 5.1)).toBe(0)
    // no area: a segment; nearer than the sound triangle far away
    expect(
      ask(
        [
          [9, 9, 9, 10, 9, 9, 9, 10, 9],
          [0, 0, 0, 1, 0, 0, 2, 0, 0],
        ],
        [1, 0.1, 0],
        Infinity,
      ),
    ).toBeGreaterThanOrEqual(0)
    expect(ask([], [0, 0, 0], Infinity)).toBe(-1)
  })
  test('rays meet a box where they should', () => {
    const bvh = buildBvh(boxMesh(10, 20, 30))
    const hit = { t: Infinity, triangle: -1 }
    castRay(bvh, 5.1, -7, 12, 0, 1, 0, hit)
    expect(hit.t).toBeCloseTo(7, 9)
    hit.t = Infinity
    hit.triangle = -1
    castRay(bvh, 50, 50, 50, 1, 0, 0, hit)
    expect(hit.triangle).toBe(-1)
  })
  test('rays along an axis, right on the grid lines of a closed plate and on its diagonals, all meet it', () => {
    // 4 x 4 fields of 10 mm above and below, closed at the sides
    const v: number[] = []
    const t: number[] = []
    for (const z of [0, 2]) for (let y = 0; y <= 4; y++) for (let x = 0; x <= 4; x++) v.push(10 * x, 10 * y, z)
    for (const [from, up] of [
      [0, false],
      [25, true],
    ] as const)
      for (let y = 0; y < 4; y++)
        for (let x = 0; x < 4; x++) {
          const a = from + 5 * y + x
          t.push(...(up ? [a, a + 1, a + 6, a, a + 6, a + 5] : [a, a + 6, a + 1, a, a + 5, a + 6]))
        }
    const bvh = buildBvh(makeMesh({ vertices: Float32Array.from(v), triangles: Uint32Array.from(t) }))
    let missed = 0
    for (let i = 0; i <= 40; i++)
      for (let j = 0; j <= 40; j++) {
        const hit = { t: Infinity, triangle: -1 }
        castRay(bvh, i, j, 50, 0, 0, -1, hit)
        if (Math.abs(hit.t - 48) > 1e-9) missed++
      }
    expect(missed).toBe(0)
    // in the plane of the box's own side, but beside it
    const hit = { t: Infinity, triangle: -1 }
    castRay(bvh, 0, -1, 50, 0, 0, -1, hit)
    expect(hit.triangle).toBe(-1)
  })
})

describe('signed distance (closed formulae of box and sphere)', () => {
  test('box: faces, edges, corners, inside and outside', async () => {
    const box = boxMesh(10, 20, 30)
    const r = seeded(6)
    const n = 4000
    const xyz = new Float32Array(3 * n).map((_, i) => (r.next() * 1.6 - 0.3) * [10, 20, 30][i % 3])
    const d = await deviationTo(box, xyz, Infinity, quietContext)
    for (let i = 0; i < n; i++) {
      const q = [0, 1, 2].map((k) => Math.abs(xyz[3 * i + k] - [5, 10, 15][k]) - [5, 10, 15][k])
      const outside = Math.hypot(...q.map((v) => Math.max(v, 0)))
      const expected = outside + Math.min(0, Math.max(...q))
      expect(d.values[i]).toBeCloseTo(expected, 4)
    }
  })
  test('beyond the border of an open mesh is said, not measured', async () => {
    const box = boxMesh(10, 10, 10)
    const lid = { ...box, triangles: box.triangles.slice(30, 36) }
    const d = await deviationTo(lid, Float32Array.of(5, 5, 12, 14, 5, 10.5), Infinity, quietContext)
    expect(d.values[0]).toBeCloseTo(2, 6)
    expect([...d.beyond]).toEqual([0, 1])
  })
  test('winding number: one inside, nothing outside, between under an open lid', () => {
    const box = boxMesh(10, 10, 10)
    const w = prepareWinding(buildBvh(box))
    expect(windingNumber(w, 5, 5, 5)).toBeCloseTo(1, 2)
    expect(windingNumber(w, 5, 5, 25)).toBeCloseTo(0, 2)
    const open = prepareWinding(buildBvh({ ...box, triangles: box.triangles.slice(0, 30) }))
    const under = windingNumber(open, 5, 5, 10)
    expect(under).toBeGreaterThan(0.45)
    expect(under).toBeLessThan(0.55)
  })
})
