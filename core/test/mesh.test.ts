import { f32, u32 } from '../src/base/arrays.ts'
import { fromRotationVector, transformPoint } from '../src/base/mat4.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { fieldLevel, meshLevel, pointsLevel } from '../src/shape/display.ts'
import {
  compact,
  flipMesh,
  keepTriangles,
  makeMesh,
  transformMesh,
  triangleAreas,
  triangleNormal,
  vertexAreas,
  vertexNormals,
  vertexTriangles,
  type Mesh,
} from '../src/shape/mesh.ts'
import { keepPoints, makePoints } from '../src/shape/points.ts'
import { sampleMesh } from '../src/shape/sample.ts'
import { pointSpacing } from '../src/shape/spacing.ts'
import { closeGaps } from '../src/repair/gaps.ts'
import { quietContext } from '../src/base/run.ts'
import { borderLoops, oppositeSides, splitPinchedVertices, topology } from '../src/shape/topology.ts'
import { meshFromCorners, weld } from '../src/shape/weld.ts'
import { boxMesh, randomPoints, sphereMesh } from './help.ts'

const triangles = (...t: number[][]) => u32(3 * t.length).map((_, i) => t[Math.floor(i / 3)][i % 3])
const vertices = (...v: number[][]) => f32(3 * v.length).map((_, i) => v[Math.floor(i / 3)][i % 3])
/** All corners of a mesh one by one, as a file without shared vertices has them. */
const corners = (m: Mesh) => f32(3 * m.triangles.length).map((_, i) => m.vertices[3 * m.triangles[Math.floor(i / 3)] + (i % 3)])

describe('joining corners', () => {
  test('a box out of 36 corners has 8 vertices and is closed', () => {
    const { mesh, dropped } = meshFromCorners(corners(boxMesh(10, 20, 30)))
    expect([mesh.vertices.length / 3, mesh.triangles.length / 3, dropped]).toEqual([8, 12, 0])
    expect(topology(mesh).closed).toBe(true)
  })
  test('a rounding apart stays apart, unless a tolerance is given', () => {
    const c = Float32Array.of(1, 2, 3, Math.fround(1 + 1.2e-7), 2, 3, 0, 0, 0)
    expect(weld(c).vertices.length).toBe(9)
    expect(weld(c, 1e-4).vertices.length).toBe(6)
  })
  test('minus nothing is nothing', () => {
    expect(weld(Float32Array.of(0, 0, 0, -0, 0, -0)).vertices.length).toBe(3)
  })
  test('triangles that lose a corner are dropped and counted, faces stay with theirs', () => {
    const c = Float32Array.of(0, 0, 0, 1, 0, 0, 0, 1, 0, /**/ 5, 5, 5, 5, 5, 5, 6, 6, 6, /**/ 1, 0, 0, 1, 1, 0, 0, 1, 0)
    const { mesh, dropped } = meshFromCorners(c, Uint32Array.of(7, 8, 9))
    expect(dropped).toBe(1)
    expect([...(mesh.faces as Uint32Array)]).toEqual([7, 9])
  })
  test('a hundred thousand corners in random order come back to the same surface', () => {
    const m = sphereMesh(10, 100)
    const { mesh } = meshFromCorners(corners(m))
    expect(mesh.vertices.length).toBe(m.vertices.length)
    expect(meshFacts(mesh).volume).toBeCloseTo(meshFacts(m).volume, 3)
  })
})

describe('soundness', () => {
  test('open, closed, more than two, inside out', () => {
    const box = boxMesh(1, 1, 1)
    expect(topology(box)).toMatchObject({ components: 1, openEdges: 0, borders: 0, nonManifoldEdges: 0, flippedEdges: 0, closed: true })
    expect(topology({ ...box, triangles: box.triangles.slice(0, 30) })).toMatchObject({ openEdges: 4, borders: 1, closed: false })
    // a third triangle on the side from 0 to 1
    const fin = makeMesh({ vertices: vertices([0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]), triangles: triangles([0, 1, 2], [1, 0, 3], [0, 1, 4]) })
    expect(topology(fin)).toMatchObject({ nonManifoldEdges: 1, closed: false })
    const turned = makeMesh({ vertices: fin.vertices, triangles: triangles([0, 1, 2], [0, 1, 3]) })
    expect(topology(turned).flippedEdges).toBe(1)
    expect(topology(makeMesh({ vertices: f32(0), triangles: u32(0) })).closed).toBe(false)
  })
  test('across each side lies its neighbour, and back', () => {
    const m = sphereMesh(5, 12)
    const sides = oppositeSides(m)
    for (let s = 0; s < sides.length; s++) {
      expect(sides[sides[s]]).toBe(s)
      const end = (k: number) => m.triangles[k - (k % 3) + ((k + 1) % 3)]
      expect([m.triangles[s], end(s)]).toEqual([end(sides[s]), m.triangles[sides[s]]])
    }
  })
  test('a fan of a hundred triangles about one vertex', () => {
    const n = 100
    const rim = Array.from({ length: n }, (_, i) => [Math.cos((2 * Math.PI * i) / n), Math.sin((2 * Math.PI * i) / n), 0])
    const m = makeMesh({ vertices: vertices([0, 0, 1], ...rim), triangles: triangles(...rim.map((_, i) => [0, 1 + i, 1 + ((i + 1) % n)])) })
    expect(topology(m)).toMatchObject({ openEdges: n, borders: 1, components: 1 })
    const [loop] = borderLoops(m, oppositeSides(m))
    expect(loop).toHaveLength(n)
    // the loop runs in the direction of the triangles
    for (let i = 0; i < n; i++) expect((loop[(i + 1) % n] - loop[i] + n) % n).toBe(1)
  })
  test('a rim of 200 000 corners: walked, measured and left open', () => {
    // a ribbon about z, open below and above
    const n = 100_000
    const v = f32(6 * n)
    const t = u32(6 * n)
    for (let i = 0; i < n; i++) {
      const a = (2 * Math.PI * i) / n
      for (const k of [0, 1]) v.set([500 * Math.cos(a), 500 * Math.sin(a), k], 6 * i + 3 * k)
      const j = (i + 1) % n
      t.set([2 * i, 2 * j, 2 * i + 1, 2 * j, 2 * j + 1, 2 * i + 1], 6 * i)
    }
    const m = makeMesh({ vertices: v, triangles: t })
    const loops = borderLoops(m, oppositeSides(m))
    expect(loops.map((l) => l.length)).toEqual([n, n])
    const r = closeGaps(m, { size: 20 }, quietContext)
    expect([r.closed, r.left]).toEqual([0, 2])
    expect(r.largestLeft).toBeCloseTo(1000, 2)
    // one rim of both, cut open
    const cut = makeMesh({ vertices: v, triangles: t.slice(6) })
    expect(borderLoops(cut, oppositeSides(cut)).map((l) => l.length)).toEqual([2 * n])
    expect(closeGaps(cut, { size: 20 }, quietContext).left).toBe(1)
  })
  test('loose triangles: each is a piece and a border of its own', () => {
    const n = 20_000
    const m = makeMesh({ vertices: f32(9 * n).map((_, i) => (i % 9 === 3 || i % 9 === 7 ? 1 : 0) + Math.floor(i / 9)), triangles: u32(3 * n).map((_, i) => i) })
    expect(topology(m)).toMatchObject({ components: n, borders: n, openEdges: 3 * n, closed: false })
  })
  test('two pieces that touch in a point are two after splitting, with the same surface', () => {
    const a = boxMesh(1, 1, 1)
    const b = makeMesh({ ...a, vertices: a.vertices.map((v) => v + 1) })
    const both = meshFromCorners(Float32Array.of(...corners(a), ...corners(b))).mesh
    expect(both.vertices.length / 3).toBe(15)
    const split = splitPinchedVertices(both)
    expect(split.vertices.length / 3).toBe(16)
    expect(meshFacts(split)).toMatchObject({ volume: 2, area: 12 })
    expect(splitPinchedVertices(a).vertices.length).toBe(a.vertices.length)
  })
  test('the largest piece is number 0', () => {
    const a = sphereMesh(5, 10)
    const b = boxMesh(1, 1, 1)
    const t = topology(meshFromCorners(Float32Array.of(...corners(b).map((v) => v + 20), ...corners(a))).mesh)
    expect(t.componentSizes).toEqual([a.triangles.length / 3, 12])
    expect(t.componentOf[0]).toBe(1)
  })
})

describe('parts of a mesh', () => {
  const box = boxMesh(10, 20, 30)
  test('kept triangles keep their faces, flags and colours, and no vertex without use', () => {
    const m = makeMesh({
      ...box,
      faces: u32(12).map((_, i) => i >> 1),
      unmeasured: new Uint8Array(12).map((_, i) => (i === 2 || i === 3 ? 1 : 0)),
      colours: new Uint8Array(24).map((_, i) => i),
    })
    const kept = keepTriangles(
      m,
      new Uint8Array(12).map((_, i) => (i === 2 || i === 3 ? 1 : 0)),
    )
    expect([...(kept.faces as Uint32Array)]).toEqual([1, 1])
    expect([...(kept.unmeasured as Uint8Array)]).toEqual([1, 1])
    expect(kept.vertices.length).toBe(12)
    for (let v = 0; v < 4; v++) {
      expect(kept.vertices[3 * v]).toBe(10)
      const old = (kept.colours as Uint8Array)[3 * v] / 3
      expect([...kept.vertices.subarray(3 * v, 3 * v + 3)]).toEqual([...m.vertices.subarray(3 * old, 3 * old + 3)])
    }
  })
  test('a mesh without loose vertices is left as it is', () => {
    expect(compact(box)).toBe(box)
  })
  test('turned inside out the volume changes its sign, moved it does not change', () => {
    expect(meshFacts(flipMesh(box)).volume).toBeCloseTo(-6000, 6)
    const pose = fromRotationVector(0.4, 1.2, -0.3, 1000, -500, 20)
    const facts = meshFacts(transformMesh(box, pose))
    expect(facts.volume).toBeCloseTo(6000, 1)
    expect(facts.area).toBeCloseTo(2200, 1)
    const p = transformPoint(pose, 10, 20, 30)
    expect([...transformMesh(box, pose).vertices.subarray(21, 24)].map((v, k) => Math.abs(v - p[k]) < 1e-3)).toEqual([true, true, true])
  })
  test('areas of triangles and of vertices add up', () => {
    const sum = (a: Float64Array) => a.reduce((s, v) => s + v, 0)
    expect(sum(triangleAreas(box))).toBeCloseTo(2200, 9)
    expect(sum(vertexAreas(box))).toBeCloseTo(2200, 9)
    expect(sum(vertexAreas(sphereMesh(10, 60))) / (400 * Math.PI)).toBeCloseTo(1, 2)
  })
  test('triangles about a vertex', () => {
    const { start, list } = vertexTriangles(box.triangles, 8)
    expect(list.length).toBe(36)
    for (let v = 0; v < 8; v++) for (let k = start[v]; k < start[v + 1]; k++) expect([...box.triangles.subarray(3 * list[k], 3 * list[k] + 3)]).toContain(v)
  })
})

describe('normals of a mesh', () => {
  test('of a box corner: the space diagonal, however the faces are cut into triangles', () => {
    const n = vertexNormals(boxMesh(10, 20, 30))
    for (let v = 0; v < 8; v++) for (let k = 0; k < 3; k++) expect(Math.abs(n[3 * v + k])).toBeCloseTo(1 / Math.sqrt(3), 6)
  })
  test('of a ball: outwards', () => {
    const m = sphereMesh(10, 40)
    const n = vertexNormals(m)
    for (let i = 0; i < n.length; i += 3) {
      const c = [0, 1, 2].reduce((s, k) => s + (n[i + k] * m.vertices[i + k]) / 10, 0)
      expect(c).toBeGreaterThan(0.999)
    }
  })
  test('a triangle without area has none', () => {
    expect(triangleNormal([0, 0, 0, 1, 1, 1, 2, 2, 2], [0, 1, 2], 0)).toEqual([0, 0, 0])
  })
})

describe('samples and display levels', () => {
  test('samples lie on their triangle, evenly by area', () => {
    const m = boxMesh(10, 20, 30)
    const s = sampleMesh(m, 22_000)
    const areas = triangleAreas(m)
    const count = new Float64Array(12)
    for (let i = 0; i < s.triangle.length; i++) count[s.triangle[i]]++
    for (let t = 0; t < 12; t++) expect(Math.abs(count[t] - 10 * areas[t])).toBeLessThanOrEqual(2)
    for (let i = 0; i < 300; i += 3) {
      const onFace = [0, 1, 2].some((k) => Math.abs(s.xyz[i + k]) < 1e-5 || Math.abs(s.xyz[i + k] - [10, 20, 30][k]) < 1e-5)
      expect(onFace).toBe(true)
    }
    expect([...sampleMesh(m, 50, 4).xyz]).toEqual([...sampleMesh(m, 50, 4).xyz])
    expect([...sampleMesh(m, 50, 4).xyz]).not.toEqual([...sampleMesh(m, 50, 5).xyz])
  })
  test('of many points a screen gets a part, each once, with its place in the whole', () => {
    const p = makePoints({ xyz: randomPoints(5000, 10, 1), normals: randomPoints(5000, 2, 2) })
    const level = pointsLevel(p, 700)
    expect(new Set(level.map).size).toBe(700)
    level.map?.forEach((at, i) => {
      for (let k = 0; k < 3; k++) expect([level.xyz[3 * i + k], level.normals?.[3 * i + k]]).toEqual([p.xyz[3 * at + k], p.normals?.[3 * at + k]])
    })
    // any beginning of it is an even sample: the first tenth reaches into all corners
    const octants = new Set(Array.from({ length: 70 }, (_, i) => [0, 1, 2].map((k) => level.xyz[3 * i + k] > 0).join()))
    expect(octants.size).toBe(8)
    expect(pointsLevel(p, 9999).xyz.length).toBe(15_000)
  })
  test('a coarse mesh keeps vertices of the whole, and what was not measured stays told', async () => {
    const m = sphereMesh(20, 60)
    const middle = (i: number) => [0, 1, 2].reduce((s, k) => s + m.vertices[3 * m.triangles[3 * i + k] + 2] / 3, 0)
    const flagged = makeMesh({ ...m, unmeasured: new Uint8Array(m.triangles.length / 3).map((_, i) => (middle(i) > 0 ? 1 : 0)) })
    const level = await meshLevel(flagged, 2000)
    expect((level.triangles as Uint32Array).length / 3).toBeLessThanOrEqual(2000)
    level.map?.forEach((at, i) => {
      for (let k = 0; k < 3; k++) expect(level.xyz[3 * i + k]).toBe(m.vertices[3 * at + k])
    })
    const share = (level.unmeasured as Uint8Array).reduce((s, v) => s + v, 0) / (level.unmeasured as Uint8Array).length
    expect(share).toBeGreaterThan(0.4)
    expect(share).toBeLessThan(0.6)
    expect((await meshLevel(flagged)).triangles).toBe(flagged.triangles)
  })
  test('colours come along to the screen, of points, of a mesh that is shown whole, and of a coarser one', async () => {
    const hues = (n: number) => new Uint8Array(3 * n).map((_, i) => (i * 7919) % 251)
    const same = (shown: Uint8Array | undefined, whole: Uint8Array, map: Uint32Array) => {
      expect(shown).toHaveLength(3 * map.length)
      map.forEach((at, i) => expect([...(shown as Uint8Array).subarray(3 * i, 3 * i + 3)]).toEqual([...whole.subarray(3 * at, 3 * at + 3)]))
    }
    const p = makePoints({ xyz: randomPoints(900, 10, 1), colours: hues(900) })
    const some = pointsLevel(p, 200)
    same(some.colours, p.colours as Uint8Array, some.map as Uint32Array)
    const m = sphereMesh(20, 60)
    const painted = makeMesh({ ...m, colours: hues(m.vertices.length / 3) })
    expect((await meshLevel(painted)).colours).toBe(painted.colours)
    const coarse = await meshLevel(painted, 2000)
    same(coarse.colours, painted.colours as Uint8Array, coarse.map as Uint32Array)
    expect((await meshLevel(m, 2000)).colours).toBeUndefined()
  })
  test('a nominal keeps all its triangles, so that its faces can be chosen', async () => {
    const m = sphereMesh(20, 60)
    const withFaces = makeMesh({ ...m, faces: u32(m.triangles.length / 3) })
    expect((await meshLevel(withFaces, 100)).triangles).toBe(withFaces.triangles)
  })
  test('one that is too large for that keeps the faces of what is left', async () => {
    const m = sphereMesh(20, 60)
    const upper = (x: ArrayLike<number>, t: ArrayLike<number>, i: number) => [0, 1, 2].reduce((s, k) => s + x[3 * t[3 * i + k] + 2], 0) > 0
    const faces = u32(m.triangles.length / 3).map((_, i) => (upper(m.vertices, m.triangles, i) ? 7 : 3))
    const level = await meshLevel(makeMesh({ ...m, faces }), 1500, 2000)
    const t = level.triangles as Uint32Array
    expect(t.length / 3).toBeLessThanOrEqual(1500)
    let wrong = 0
    for (let i = 0; 3 * i < t.length; i++) if (level.faces?.[i] !== (upper(level.xyz, t, i) ? 7 : 3)) wrong++
    // those along the equator may fall to either side
    expect(wrong).toBeLessThan(40)
    expect(new Set(level.faces).size).toBe(2)
  })
  test('no peak is hidden by what is shown of a field; within the limit nothing is made larger', async () => {
    const m = sphereMesh(20, 60)
    const level = await meshLevel(m, 2000)
    const map = level.map as Uint32Array
    const values = f32(m.vertices.length / 3).map((_, i) => 0.05 * Math.sin(i))
    const hidden = values.findIndex((_, i) => !map.includes(i))
    values[hidden] = -0.4
    values[3] = Number.NaN
    const shown = fieldLevel(values, map, m.vertices, 0.1)
    expect(Math.min(...shown.filter((v) => v === v))).toBeCloseTo(-0.4, 6)
    expect(shown.filter((v) => Math.abs(v) > 0.1)).toHaveLength(1)
    map.forEach((at, i) => {
      if (Math.abs(shown[i]) <= 0.1) expect(shown[i]).toBe(values[at])
    })
  })
})

describe('points', () => {
  test('spacing of a raster is its pitch, doubled points or a stray do not change it', () => {
    const list: number[] = []
    for (let x = 0; x < 40; x++) for (let y = 0; y < 40; y++) list.push(0.3 * x, 0.3 * y, 0)
    expect(pointSpacing(Float32Array.from(list))).toBeCloseTo(0.3, 5)
    expect(pointSpacing(Float32Array.from([...list, 900, 900, 900]))).toBeCloseTo(0.3, 5)
    expect(pointSpacing(Float32Array.of(1, 2, 3))).toBe(0)
    expect(pointSpacing(new Float32Array(300))).toBe(0)
  })
  test('what is kept keeps normals, colours and the scanner’s place; nothing left is refused', () => {
    const p = makePoints({
      xyz: f32(9).map((_, i) => i),
      normals: f32(9).map((_, i) => 10 + i),
      colours: new Uint8Array(9).map((_, i) => i),
      viewpoint: [1, 2, 3],
    })
    const kept = keepPoints(p, Uint8Array.of(0, 1, 1))
    expect([...kept.xyz]).toEqual([3, 4, 5, 6, 7, 8])
    expect([...(kept.normals as Float32Array)]).toEqual([13, 14, 15, 16, 17, 18])
    expect([...(kept.colours as Uint8Array)]).toEqual([3, 4, 5, 6, 7, 8])
    expect(kept.viewpoint).toEqual([1, 2, 3])
    expect(() => keepPoints(p, new Uint8Array(3), 'cleaning')).toThrow('No point would be left after cleaning')
  })
})
