import { describe, expect, test } from '@jest/globals'
import type { CadSurface } from '../src/base/cad.ts'
import { f32, u32 } from '../src/base/arrays.ts'
import { quietContext } from '../src/base/run.ts'
import { readAny } from '../src/formats/index.ts'
import { writeAny } from '../src/formats/index.ts'
import { bytesSource } from '../src/formats/source.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { runOperation } from '../src/operations/registry.ts'
import type { Item } from '../src/operations/operation.ts'
import { orient } from '../src/repair/orientation.ts'
import { flipMesh, makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { topology } from '../src/shape/topology.ts'
import { boxMesh, concat, fixtureSource, sphereMesh } from './help.ts'

const turn = (m: Mesh, which: (i: number) => boolean): Mesh =>
  makeMesh({ ...m, triangles: m.triangles.map((v, s) => (which(Math.floor(s / 3)) && s % 3 ? m.triangles[s - (s % 3) + (3 - (s % 3))] : v)) })
const shifted = (m: Mesh, x: number): Mesh => makeMesh({ ...m, vertices: m.vertices.map((v, i) => (i % 3 === 0 ? v + x : v)) })
function together(...bodies: Mesh[]): Mesh {
  let before = 0
  const triangles: number[] = []
  for (const b of bodies) {
    for (const v of b.triangles) triangles.push(v + before)
    before += b.vertices.length / 3
  }
  return makeMesh({ vertices: Float32Array.from(bodies.flatMap((b) => [...b.vertices])), triangles: Uint32Array.from(triangles) })
}

describe('one outside', () => {
  test('a sound mesh is given back as it is', () => {
    const m = boxMesh(3, 4, 5)
    expect(orient(m)).toEqual({ mesh: m, turned: 0, oneSided: 0, open: 0, branching: 0 })
    expect(orient(m).mesh).toBe(m)
  })
  test('the exact surfaces of a body that came inside out are turned with its faces', () => {
    const box = boxMesh(10, 10, 10)
    const area = 100
    const surfaces: CadSurface[] = [
      { kind: 'plane', area, point: [0, 0, 0], normal: [1, 0, 0] },
      { kind: 'cylinder', area, point: [5, 5, 0], axis: [0, 0, 1], radius: 3, hollow: true },
      { kind: 'free', area },
    ]
    // two triangles are the first face, four the second, the rest the third
    const m = makeMesh({ ...box, faces: Uint32Array.from({ length: 12 }, (_, i) => (i < 2 ? 0 : i < 6 ? 1 : 2)), surfaces })
    expect(orient(m).mesh.surfaces).toBe(m.surfaces)
    const r = orient(turn(m, () => true))
    expect(r.turned).toBe(12)
    expect(r.mesh.surfaces).toEqual([{ ...surfaces[0], normal: [-1, -0, -0] }, { ...surfaces[1], hollow: false }, surfaces[2]])
    // one face of a body only, as a damaged file may have it
    const one = orient(turn(m, (i) => i < 2)).mesh.surfaces
    expect(one).toEqual([{ ...surfaces[0], normal: [-1, -0, -0] }, surfaces[1], surfaces[2]])
  })
  test('single triangles, half of them, or all of them the other way round: the same body again', () => {
    const m = sphereMesh(10, 20)
    for (const which of [(i: number) => i === 17, (i: number) => i % 2 === 0, () => true, (i: number) => (i * 7919) % 5 > 1]) {
      const bad = turn(m, which)
      const r = orient(bad)
      expect([topology(r.mesh).flippedEdges, meshFacts(r.mesh).volume / meshFacts(m).volume]).toEqual([0, expect.closeTo(1, 9)])
      expect(r.turned).toBe([...Array(m.triangles.length / 3).keys()].filter(which).length)
    }
  })
  test('a cavity looks into the hollow, a body within the cavity outwards, a body beside by itself', () => {
    const centred = (r: number) => makeMesh({ ...sphereMesh(r, 12), vertices: sphereMesh(r, 12).vertices.map((v) => v + 50) })
    const want = 1e6 - meshFacts(centred(30)).volume + meshFacts(centred(10)).volume + meshFacts(centred(5)).volume
    // all of them given looking outwards, then all inwards
    const all = together(boxMesh(100, 100, 100), centred(30), centred(10), shifted(centred(5), 200))
    for (const given of [all, flipMesh(all)]) expect(meshFacts(orient(given).mesh).volume / want).toBeCloseTo(1, 5)
  })
  test('an open sheet keeps the side of most of its area', () => {
    const v: number[] = []
    const t: number[] = []
    for (let y = 0; y <= 6; y++) for (let x = 0; x <= 6; x++) v.push(x, y, 0)
    for (let y = 0; y < 6; y++) for (let x = 0; x < 6; x++) t.push(7 * y + x, 7 * y + x + 1, 7 * y + x + 8, 7 * y + x, 7 * y + x + 8, 7 * y + x + 7)
    const sheet = makeMesh({ vertices: f32(v.length).map((_, i) => v[i]), triangles: u32(t.length).map((_, i) => t[i]) })
    const r = orient(turn(sheet, (i) => i % 3 === 0))
    expect([r.turned, r.open, [...r.mesh.triangles]]).toEqual([24, 1, [...sheet.triangles]])
  })
  test('a strip with one side is told and left; three sheets at one edge are told', () => {
    const n = 12
    const v: number[] = []
    const t: number[] = []
    for (let i = 0; i < n; i++) {
      const a = (2 * Math.PI * i) / n
      for (const s of [-1, 1]) v.push((5 + s * Math.cos(a / 2)) * Math.cos(a), (5 + s * Math.cos(a / 2)) * Math.sin(a), s * Math.sin(a / 2))
      const [p, q] = [2 * i, i === n - 1 ? 1 : 2 * i + 2]
      const [p2, q2] = [2 * i + 1, i === n - 1 ? 0 : 2 * i + 3]
      t.push(p, q, q2, p, q2, p2)
    }
    const strip = makeMesh({ vertices: Float32Array.from(v), triangles: Uint32Array.from(t) })
    const r = orient(strip)
    expect([r.oneSided, r.turned, r.mesh === strip]).toEqual([1, 0, true])
    const fan = makeMesh({ vertices: Float32Array.of(0, 0, 0, 0, 0, 5, 5, 0, 0, -3, 4, 0, -3, -4, 0), triangles: Uint32Array.of(0, 1, 2, 0, 1, 3, 0, 1, 4) })
    expect(orient(fan).branching).toBe(1)
  })
  test('brought in, the plate of another program’s tests has a volume again, and what was done is said', async () => {
    const name = 'robustness/plate_inconsistent_orientation.stl'
    const raw = (await readAny(fixtureSource(name))).data as Mesh
    const r = await runOperation('import', { file: [{ kind: 'file', source: fixtureSource(name) }] }, { unit: 'mm' }, quietContext)
    const mesh = (r.outputs['item'] as Item<Mesh>[])[0].data
    expect([topology(raw).flippedEdges > 0, topology(mesh).flippedEdges]).toEqual([true, 0])
    const whole = (await readAny(fixtureSource('cad/plate_holes_dev.stl'))).data as Mesh
    expect(meshFacts(mesh).volume / meshFacts(whole).volume).toBeCloseTo(1, 6)
    expect(Math.abs(meshFacts(raw).volume / meshFacts(whole).volume - 1)).toBeGreaterThan(0.05)
    expect(r.evidence.warnings.join()).toMatch(/triangles lay the other way round/)
    const inside = concat(writeAny('ply', flipMesh(boxMesh(40, 30, 20)), 'x'))
    const box = await runOperation('import', { file: [{ kind: 'file', source: bytesSource('box.ply', inside) }] }, {}, quietContext)
    expect(meshFacts((box.outputs['item'] as Item<Mesh>[])[0].data).volume).toBeCloseTo(24_000, 1)
    expect(box.evidence.warnings.join()).toMatch(/inside out/)
  })
})
