import { readFileSync } from 'node:fs'
import { basename } from 'node:path'
import { f32, u32 } from '../src/base/arrays.ts'
import { OakError } from '../src/base/errors.ts'
import { seeded } from '../src/base/random.ts'
import { bytesSource, type ByteSource } from '../src/formats/source.ts'
import type { Evidence } from '../src/operations/operation.ts'
import type { QuantityId } from '../src/operations/quantities.ts'
import { makeMesh, type Mesh } from '../src/shape/mesh.ts'
import { buildTriangleSearch, closestOnTriangle, closestTriangles, newClosest } from '../src/space/closest.ts'

const here = new URL('./fixtures/', import.meta.url).pathname

export const fixture = (path: string) => new Uint8Array(readFileSync(here + path))
export const fixtureJson = (path: string): any => JSON.parse(readFileSync(here + path, 'utf8'))
export const fixtureSource = (path: string): ByteSource => bytesSource(basename(path), fixture(path), 4096)
export const textSource = (name: string, text: string, chunk = 97) => bytesSource(name, new TextEncoder().encode(text), chunk)

/** The error a promise ends with; fails when it does not end with an OakError. */
export async function oakError(run: Promise<unknown>): Promise<OakError> {
  try {
    await run
  } catch (e) {
    if (e instanceof OakError) return e
    throw e
  }
  throw new Error('no error was thrown')
}

/** A quantity of an evidence, of the whole or of one item. */
export const value = (e: Evidence, id: QuantityId, of?: string) => e.quantities.find((q) => q.id === id && q.of === of)?.value

export function concat(parts: Iterable<Uint8Array>): Uint8Array {
  const list = [...parts]
  const out = new Uint8Array(list.reduce((s, p) => s + p.length, 0))
  let o = 0
  for (const p of list) {
    out.set(p, o)
    o += p.length
  }
  return out
}

/** Closed box with outward triangles. */
export function boxMesh(x: number, y: number, z: number): Mesh {
  const v: number[] = []
  for (let c = 0; c < 8; c++) v.push(c & 1 ? x : 0, c & 2 ? y : 0, c & 4 ? z : 0)
  const quads = [
    [0, 4, 6, 2],
    [1, 3, 7, 5],
    [0, 1, 5, 4],
    [2, 6, 7, 3],
    [0, 2, 3, 1],
    [4, 5, 7, 6],
  ]
  return makeMesh({ vertices: f32(24).map((_, i) => v[i]), triangles: u32(36).map((_, i) => quads[Math.floor(i / 6)][[0, 1, 2, 0, 2, 3][i % 6]]) })
}

/** Latitude-longitude sphere. */
export function sphereMesh(r: number, n = 48): Mesh {
  const v: number[] = [0, 0, r]
  const t: number[] = []
  for (let i = 1; i < n; i++)
    for (let j = 0; j < 2 * n; j++) {
      const a = (Math.PI * i) / n
      const b = (Math.PI * j) / n
      v.push(r * Math.sin(a) * Math.cos(b), r * Math.sin(a) * Math.sin(b), r * Math.cos(a))
    }
  v.push(0, 0, -r)
  const at = (i: number, j: number) => (i === 0 ? 0 : i === n ? v.length / 3 - 1 : 1 + (i - 1) * 2 * n + (j % (2 * n)))
  for (let i = 0; i < n; i++)
    for (let j = 0; j < 2 * n; j++) {
      if (i < n - 1) t.push(at(i, j), at(i + 1, j), at(i + 1, j + 1))
      if (i > 0) t.push(at(i, j), at(i + 1, j + 1), at(i, j + 1))
    }
  return makeMesh({ vertices: f32(v.length).map((_, i) => v[i]), triangles: u32(t.length).map((_, i) => t[i]) })
}

export function randomPoints(n: number, size: number, seed: number): Float32Array {
  const r = seeded(seed)
  return f32(3 * n).map(() => size * (r.next() - 0.5))
}

/** Distance of each point to the nearest triangle of a mesh, mm; `within` where there is none so near. */
export function distancesTo(mesh: Mesh, xyz: Float32Array, within: number): Float64Array {
  const search = buildTriangleSearch(mesh)
  const n = xyz.length / 3
  const order = Uint32Array.from({ length: n }, (_, i) => i)
  const hits = closestTriangles(search, xyz, order, 0, n, within).slice()
  const best = newClosest()
  return Float64Array.from(order, (i) => {
    if (hits[i] < 0) return within
    best.d2 = Infinity
    closestOnTriangle(search.corners, hits[i], xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2], best)
    return Math.sqrt(best.d2)
  })
}
