import { MeshoptSimplifier } from 'meshoptimizer'
import { f32, u32, u8 } from '../base/arrays.ts'
import { seeded } from '../base/random.ts'
import { buildTriangleSearch, closestTriangles } from '../space/closest.ts'
import { buildKdTree, nearestK } from '../space/kdtree.ts'
import { mortonOrder } from '../space/morton.ts'
import type { Mesh } from './mesh.ts'
import type { Points } from './points.ts'

/** Points that a screen gets of one pass, and triangles of one mesh: more cannot be told apart on it. */
export const SHOWN_POINTS = 60_000
export const SHOWN_TRIANGLES = 160_000
/** Nominals are shown whole up to this many; beyond, each triangle keeps the face it lies on. */
const SHOWN_WITH_FACES = 600_000

export interface DisplayLevel {
  xyz: Float32Array
  normals?: Float32Array
  triangles?: Uint32Array
  faces?: Uint32Array
  unmeasured?: Uint8Array
  /** of the surface as it was recorded, red green blue of each */
  colours?: Uint8Array
  /** place of each shown vertex or point in the whole; left out when all are shown in order */
  map?: Uint32Array
}

/**
 * A random subset of points in random order, so that any beginning of it is an even sample (a screen may draw less).
 * Deterministic. O(N).
 */
export function pointsLevel(p: Points, limit = SHOWN_POINTS): DisplayLevel {
  const n = p.xyz.length / 3
  const random = seeded(17)
  const take = Math.min(n, limit)
  // partial Fisher-Yates over a sparse swap table
  const swapped = new Map<number, number>()
  const map = u32(take)
  for (let i = 0; i < take; i++) {
    const j = i + random.below(n - i)
    map[i] = swapped.get(j) ?? j
    swapped.set(j, swapped.get(i) ?? i)
  }
  const xyz = f32(3 * take)
  const normals = p.normals && f32(3 * take)
  const colours = p.colours && u8(3 * take)
  for (let i = 0; i < take; i++)
    for (let k = 0; k < 3; k++) {
      xyz[3 * i + k] = p.xyz[3 * map[i] + k]
      if (normals && p.normals) normals[3 * i + k] = p.normals[3 * map[i] + k]
      if (colours && p.colours) colours[3 * i + k] = p.colours[3 * map[i] + k]
    }
  return { xyz, map, ...(normals ? { normals } : {}), ...(colours ? { colours } : {}) }
}

/** A coarser mesh over a subset of the vertices (quadric collapse, package meshoptimizer), so that values of vertices carry over unchanged. */
export async function meshLevel(m: Mesh, limit = SHOWN_TRIANGLES, limitWithFaces = SHOWN_WITH_FACES): Promise<DisplayLevel> {
  const whole = m.triangles.length / 3
  if (whole <= (m.faces ? limitWithFaces : limit))
    return {
      xyz: m.vertices,
      triangles: m.triangles,
      ...(m.faces ? { faces: m.faces } : {}),
      ...(m.unmeasured ? { unmeasured: m.unmeasured } : {}),
      ...(m.colours ? { colours: m.colours } : {}),
    }
  await MeshoptSimplifier.ready
  const [index] = MeshoptSimplifier.simplify(new Uint32Array(m.triangles), new Float32Array(m.vertices), 3, limit * 3, 1e30, [])
  const place = new Int32Array(m.vertices.length / 3).fill(-1)
  let n = 0
  const triangles = u32(index.length)
  for (let i = 0; i < index.length; i++) {
    if (place[index[i]] < 0) place[index[i]] = n++
    triangles[i] = place[index[i]]
  }
  const map = u32(n)
  for (let v = 0; v < place.length; v++) if (place[v] >= 0) map[place[v]] = v
  const xyz = f32(3 * n)
  const colours = m.colours && u8(3 * n)
  for (let i = 0; i < n; i++)
    for (let k = 0; k < 3; k++) {
      xyz[3 * i + k] = m.vertices[3 * map[i] + k]
      if (colours && m.colours) colours[3 * i + k] = m.colours[3 * map[i] + k]
    }
  let unmeasured: Uint8Array | undefined
  if (m.unmeasured) {
    const measured = u8(m.vertices.length / 3)
    for (let i = 0; i < m.triangles.length; i++) if (!m.unmeasured[(i / 3) | 0]) measured[m.triangles[i]] = 1
    unmeasured = u8(triangles.length / 3)
    for (let i = 0; i < unmeasured.length; i++)
      unmeasured[i] = measured[map[triangles[3 * i]]] && measured[map[triangles[3 * i + 1]]] && measured[map[triangles[3 * i + 2]]] ? 0 : 1
  }
  return {
    xyz,
    triangles,
    map,
    ...(unmeasured ? { unmeasured } : {}),
    ...(colours ? { colours } : {}),
    ...(m.faces ? { faces: facesOf(m, xyz, triangles) } : {}),
  }
}

/** Face of each coarse triangle: that of the triangle nearest to its middle. */
function facesOf(m: Mesh, xyz: Float32Array, triangles: Uint32Array): Uint32Array {
  const n = triangles.length / 3
  const middles = f32(3 * n)
  for (let i = 0; i < n; i++)
    for (let k = 0; k < 3; k++) middles[3 * i + k] = (xyz[3 * triangles[3 * i] + k] + xyz[3 * triangles[3 * i + 1] + k] + xyz[3 * triangles[3 * i + 2] + k]) / 3
  const search = buildTriangleSearch(m)
  const order = mortonOrder(middles)
  const nearest = closestTriangles(search, middles, order, 0, n, Infinity)
  const out = u32(n)
  const faces = m.faces as Uint32Array
  for (let k = 0; k < n; k++) out[order[k]] = faces[search.ids[nearest[k]]]
  return out
}

/**
 * Values of a field (one a vertex of the whole) for the vertices that are shown. What lies beyond the limit shows: a shown
 * vertex takes the largest value of those nearest to it where that is beyond and its own is not. `xyz` places of the whole.
 */
export function fieldLevel(values: Float32Array, map: Uint32Array, xyz: Float32Array, limit: number): Float32Array {
  const out = f32(map.length)
  const places = f32(3 * map.length)
  for (let i = 0; i < map.length; i++) {
    out[i] = values[map[i]]
    for (let k = 0; k < 3; k++) places[3 * i + k] = xyz[3 * map[i] + k]
  }
  if (!Number.isFinite(limit)) return out
  const tree = buildKdTree(places)
  const found = new Int32Array(1)
  const d2 = new Float64Array(1)
  for (let v = 0; v < values.length; v++) {
    const a = Math.abs(values[v])
    if (!(a > limit) || !nearestK(tree, xyz[3 * v], xyz[3 * v + 1], xyz[3 * v + 2], 1, found, d2)) continue
    const own = Math.abs(out[found[0]])
    if (!(own > limit) || (a > own && Math.sign(out[found[0]]) === Math.sign(values[v]))) out[found[0]] = values[v]
  }
  return out
}
