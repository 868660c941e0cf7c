import { vertexCount, vertexTriangles, type Mesh } from '../shape/mesh.ts'
import { buildTriangleSearch, CORNER_A, EDGE_AB, FACE, type Closest, type TriangleSearch } from './closest.ts'

/** Everything a signed distance needs; plain typed arrays, passes to threads as it is. */
export interface SignedDistance {
  readonly search: TriangleSearch
  readonly mesh: Mesh
  readonly start: Uint32Array
  readonly list: Uint32Array
}

export function prepareSignedDistance(mesh: Mesh): SignedDistance {
  return { search: buildTriangleSearch(mesh), mesh, ...vertexTriangles(mesh.triangles, vertexCount(mesh)) }
}

const normal = new Float64Array(3)

/**
 * Sign of the side on which (x, y, z) lies of its closest point: +1 outside, -1 inside, 0 exactly on the surface.
 * At edges and corners by the angle-weighted pseudo-normal, the only one that is right there
 * (Baerentzen and Aanaes 2005). `border[0]` becomes 1 when the closest point lies on an open edge of the mesh.
 */
export function sideOf(s: SignedDistance, x: number, y: number, z: number, best: Closest, border: Uint8Array): number {
  border[0] = 0
  const t = s.search.ids[best.triangle]
  const tri = s.mesh.triangles
  normal.fill(0)
  if (best.part === FACE) addNormal(s.mesh, t, -1)
  else if (best.part >= EDGE_AB) {
    const k = best.part - EDGE_AB
    const a = tri[3 * t + k]
    const b = tri[3 * t + ((k + 1) % 3)]
    let sharing = 0
    for (let i = s.start[a]; i < s.start[a + 1]; i++) {
      const o = 3 * s.list[i]
      if (tri[o] === b || tri[o + 1] === b || tri[o + 2] === b) {
        addNormal(s.mesh, s.list[i], -1)
        sharing++
      }
    }
    if (sharing === 1) border[0] = 1
  } else {
    const v = tri[3 * t + best.part - CORNER_A]
    let open = false
    for (let i = s.start[v]; i < s.start[v + 1]; i++) {
      addNormal(s.mesh, s.list[i], v)
      if (!open) open = hasOpenEdge(s, s.list[i], v)
    }
    if (open) border[0] = 1
  }
  const d = normal[0] * (x - best.x) + normal[1] * (y - best.y) + normal[2] * (z - best.z)
  return d > 0 ? 1 : d < 0 ? -1 : 0
}

/** Whether an edge of triangle t at vertex v has no other triangle. */
function hasOpenEdge(s: SignedDistance, t: number, v: number): boolean {
  const tri = s.mesh.triangles
  for (let k = 0; k < 3; k++) {
    const w = tri[3 * t + k]
    if (w === v) continue
    let n = 0
    for (let i = s.start[v]; i < s.start[v + 1]; i++) {
      const o = 3 * s.list[i]
      if (tri[o] === w || tri[o + 1] === w || tri[o + 2] === w) n++
    }
    if (n === 1) return true
  }
  return false
}

/** Adds the unit normal of triangle t, weighted by its angle at vertex v (weight 1 when v is -1). */
function addNormal(mesh: Mesh, t: number, v: number): void {
  const p = mesh.vertices
  const tri = mesh.triangles
  let k = 0
  if (v >= 0) while (tri[3 * t + k] !== v) k++
  const a = 3 * tri[3 * t + k]
  const b = 3 * tri[3 * t + ((k + 1) % 3)]
  const c = 3 * tri[3 * t + ((k + 2) % 3)]
  const ux = p[b] - p[a]
  const uy = p[b + 1] - p[a + 1]
  const uz = p[b + 2] - p[a + 2]
  const wx = p[c] - p[a]
  const wy = p[c + 1] - p[a + 1]
  const wz = p[c + 2] - p[a + 2]
  const nx = uy * wz - uz * wy
  const ny = uz * wx - ux * wz
  const nz = ux * wy - uy * wx
  const l = Math.sqrt(nx * nx + ny * ny + nz * nz)
  if (l === 0) return
  const weight = v < 0 ? 1 / l : Math.atan2(l, ux * wx + uy * wy + uz * wz) / l
  normal[0] += weight * nx
  normal[1] += weight * ny
  normal[2] += weight * nz
}
