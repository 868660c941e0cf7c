import { f32 } from '../src/base/arrays.ts'
import { seeded } from '../src/base/random.ts'
import { meshFacts } from '../src/measure/facts.ts'
import { blockCount, blockKey, markBand, newLattice, touchBlock, type Lattice } from '../src/merge/lattice.ts'
import { CENTRE, cubeCase, extractSurface } from '../src/merge/marching.ts'
import { makeMesh } from '../src/shape/mesh.ts'
import { boundingBox } from '../src/shape/points.ts'
import { oppositeSides, splitPinchedVertices } from '../src/shape/topology.ts'
import { randomPoints } from './help.ts'

/** A lattice of n cubed blocks at the origin, cell 1 mm, filled by a function of the node's coordinates. */
function filled(n: number, value: (x: number, y: number, z: number) => number): { lattice: Lattice; values: Float32Array } {
  const lattice: Lattice = { origin: [0, 0, 0], cell: 1, blocks: [], map: new Map(), rows: new Uint8Array(64 * n ** 3) }
  for (let x = 0; x < n; x++) for (let y = 0; y < n; y++) for (let z = 0; z < n; z++) touchBlock(lattice, x, y, z)
  const values = f32(512 * blockCount(lattice))
  for (let b = 0; b < blockCount(lattice); b++)
    for (let node = 0; node < 512; node++)
      values[512 * b + node] = value(
        8 * lattice.blocks[3 * b] + (node & 7),
        8 * lattice.blocks[3 * b + 1] + ((node >> 3) & 7),
        8 * lattice.blocks[3 * b + 2] + (node >> 6),
      )
  return { lattice, values }
}

describe('cases of a cube', () => {
  test('all 256 signs with all ways to join the faces: every crossed edge is used, each side of a triangle twice or on a face', () => {
    for (let inside = 1; inside < 255; inside++)
      for (const joined of [0, 63, 21]) {
        const t = cubeCase(inside, joined)
        expect(t.length % 3).toBe(0)
        const crossed = new Set<number>()
        for (let axis = 0; axis < 3; axis++)
          for (let k = 0; k < 4; k++) {
            const bits = [1, 2, 4].filter((_, i) => i !== axis)
            const a = (k & 1 ? bits[0] : 0) | (k & 2 ? bits[1] : 0)
            if (((inside >> a) & 1) !== ((inside >> (a | (1 << axis))) & 1)) crossed.add(4 * axis + k)
          }
        expect(new Set(t.filter((e) => e < CENTRE))).toEqual(crossed)
        // inner sides are met from both directions, outer ones once: the loops on the six faces
        const met = new Map<string, number>()
        for (let i = 0; i < t.length; i += 3)
          for (let k = 0; k < 3; k++) {
            const key = `${t[i + k]} ${t[i + ((k + 1) % 3)]}`
            expect(met.has(key)).toBe(false)
            met.set(key, 1)
          }
        const outer = [...met.keys()].filter((key) => !met.has(key.split(' ').reverse().join(' ')))
        const ends = outer.map((key) => key.split(' ')[1])
        expect(outer.length).toBe(crossed.size)
        expect(new Set(ends).size).toBe(crossed.size)
      }
  })
  test('nothing and everything inside give no triangle', () => {
    expect(cubeCase(0, 0).length + cubeCase(255, 0).length).toBe(0)
  })
})

describe('surface of a lattice', () => {
  test.each([1, 2, 3])('pure noise, the worst there is (seed %p): closed, no edge of more than two, none inside out', (seed) => {
    const r = seeded(seed)
    const { lattice, values } = filled(3, (x, y, z) => (Math.min(x, y, z) < 2 || Math.max(x, y, z) > 21 ? 1 : r.next() - 0.5))
    const s = extractSurface(lattice, values)
    const facts = meshFacts(makeMesh(s))
    expect(facts.triangles).toBeGreaterThan(10_000)
    expect([facts.topology.openEdges, facts.topology.nonManifoldEdges, facts.topology.flippedEdges]).toEqual([0, 0, 0])
    // every corner of every triangle has one ring of triangles after splitting
    const split = splitPinchedVertices(makeMesh(s))
    expect(meshFacts(split).topology.closed).toBe(true)
    expect(meshFacts(split).volume).toBeCloseTo(facts.volume, 6)
  })
  test('a ball comes out with its normals outwards, its vertices where the field is zero', () => {
    const { lattice, values } = filled(3, (x, y, z) => Math.hypot(x - 11.3, y - 11.9, z - 12.1) - 8)
    const s = extractSurface(lattice, values)
    expect(meshFacts(makeMesh(s)).volume / ((4 / 3) * Math.PI * 512)).toBeGreaterThan(0.98)
    for (let i = 0; i < s.vertices.length; i += 3) {
      const d = Math.hypot(s.vertices[i] - 11.3, s.vertices[i + 1] - 11.9, s.vertices[i + 2] - 12.1)
      expect(Math.abs(d - 8)).toBeLessThan(0.02)
    }
  })
  test('a node that is zero by chance makes no triangle without area', () => {
    const { lattice, values } = filled(2, (x, y, z) => Math.max(Math.abs(x - 8), Math.abs(y - 8), Math.abs(z - 8)) - 4)
    const s = extractSurface(lattice, values)
    const m = makeMesh(s)
    expect(meshFacts(m).topology.closed).toBe(true)
    for (let i = 0; i < m.triangles.length; i += 3) expect(new Set(m.triangles.subarray(i, i + 3)).size).toBe(3)
    for (let i = 0; i < s.vertices.length; i++) expect(Number.isFinite(s.vertices[i])).toBe(true)
  })
  test('where nodes are unknown the surface ends in an open border, and nowhere else', () => {
    const { lattice, values } = filled(3, (x, y, z) => (z > 14 ? NaN : Math.hypot(x - 11.5, y - 11.5, z - 11.5) - 8))
    const m = makeMesh(extractSurface(lattice, values))
    const sides = oppositeSides(m)
    let open = 0
    for (let s = 0; s < sides.length; s++)
      if (sides[s] === -1) {
        open++
        expect(m.vertices[3 * m.triangles[s] + 2]).toBeGreaterThan(13.5)
      }
    expect(open).toBeGreaterThan(20)
    expect(meshFacts(m).topology.borders).toBe(1)
  })
})

describe('sparse lattice', () => {
  test('blocks are told apart far out on both sides of the origin', () => {
    const keys = new Set<number>()
    let n = 0
    for (const x of [-60_000, -1, 0, 1, 60_000])
      for (const y of [-60_000, -1, 0, 1, 60_000])
        for (const z of [-60_000, -1, 0, 1, 60_000]) {
          keys.add(blockKey(x, y, z))
          n++
        }
    expect(keys.size).toBe(n)
    for (const k of keys) expect(Number.isSafeInteger(k)).toBe(true)
  })
  test('the band holds all corners of every cell with a point, and of the cells beside it', () => {
    const xyz = randomPoints(400, 30, 4)
    const l = newLattice(boundingBox(xyz), 0.7)
    markBand(l, xyz)
    const marked = (x: number, y: number, z: number): boolean => {
      const b = l.map.get(blockKey(x >> 3, y >> 3, z >> 3))
      return b !== undefined && ((l.rows[64 * b + (z & 7) * 8 + (y & 7)] >> (x & 7)) & 1) === 1
    }
    for (let i = 0; i < xyz.length; i += 3) {
      const [x, y, z] = [0, 1, 2].map((k) => Math.floor((xyz[i + k] - l.origin[k]) / 0.7))
      for (let dx = -1; dx <= 2; dx++) for (let dy = -1; dy <= 2; dy++) for (let dz = -1; dz <= 2; dz++) expect(marked(x + dx, y + dy, z + dz)).toBe(true)
    }
    // and not the whole box: 400 cells of 4 x 4 x 4 nodes at the most
    let bits = 0
    for (const row of l.rows) for (let k = 0; k < 8; k++) bits += (row >> k) & 1
    expect(bits).toBeLessThanOrEqual(400 * 64)
  })
})
