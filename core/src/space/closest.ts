import { f32, u32 } from '../base/arrays.ts'
import { triangleCount, type Mesh } from '../shape/mesh.ts'
import { floatsAt, intsAt, machine, put, resident, room } from '../simd/machine.ts'
import { mortonOrder } from './morton.ts'

/**
 * Closest-point search over triangles. They lie in Z order (Lauterbach 2009), so that any four in a row are neighbours; the tree of
 * boxes over them is made where it is used, in the memory of the vector kernels (core/simd/triangles.ts, 30 ms a million triangles).
 * The kernel finds the triangle in single precision, the place on it is then worked out here in double precision.
 * Measured, 1 M points against 1.3 M triangles on two cores: see docs/benchmarks.md; the binary tree in JavaScript took three times as long.
 */
export interface TriangleSearch {
  /** 9 a triangle: corners a, b, c, in Z order */
  readonly corners: Float32Array
  /** mesh triangle of each */
  readonly ids: Uint32Array
}

/** Box centres of all triangles, 3T. */
export function triangleCentres(mesh: Mesh): Float32Array {
  const { vertices: p, triangles: t } = mesh
  const centres = new Float32Array(t.length)
  for (let i = 0; i < t.length; i += 3) {
    const a = 3 * t[i]
    const b = 3 * t[i + 1]
    const c = 3 * t[i + 2]
    for (let k = 0; k < 3; k++) centres[i + k] = (Math.min(p[a + k], p[b + k], p[c + k]) + Math.max(p[a + k], p[b + k], p[c + k])) / 2
  }
  return centres
}

export function buildTriangleSearch(mesh: Mesh): TriangleSearch {
  const { vertices: p, triangles: t } = mesh
  const n = triangleCount(mesh)
  const corners = f32(9 * n)
  const ids = u32(n)
  ids.set(mortonOrder(triangleCentres(mesh)))
  for (let i = 0; i < n; i++)
    for (let k = 0; k < 3; k++) {
      const v = 3 * t[3 * ids[i] + k]
      const c = 9 * i + 3 * k
      corners[c] = p[v]
      corners[c + 1] = p[v + 1]
      corners[c + 2] = p[v + 2]
    }
  return { corners, ids }
}

function useTriangles(s: TriangleSearch): void {
  resident(s.corners, () => {
    const m = machine()
    const n = s.ids.length
    const count = Math.ceil(n / 4)
    const at = room(192 * count)
    const g = floatsAt(at, 48 * count)
    const c = s.corners
    for (let i = 0; i < 4 * count; i++) {
      // the last group is filled up with the last triangle
      const o = 9 * Math.min(i, n - 1)
      const q = 48 * (i >> 2) + (i & 3)
      const bx = c[o + 3] - c[o]
      const by = c[o + 4] - c[o + 1]
      const bz = c[o + 5] - c[o + 2]
      const cx = c[o + 6] - c[o]
      const cy = c[o + 7] - c[o + 1]
      const cz = c[o + 8] - c[o + 2]
      const nx = by * cz - bz * cy
      const ny = bz * cx - bx * cz
      const nz = bx * cy - by * cx
      // without area 0 / 0: NaN, and the kernel looks at the sides only
      const l = Math.sqrt(nx * nx + ny * ny + nz * nz)
      g[q] = c[o]
      g[q + 4] = c[o + 1]
      g[q + 8] = c[o + 2]
      g[q + 12] = bx
      g[q + 16] = by
      g[q + 20] = bz
      g[q + 24] = cx
      g[q + 28] = cy
      g[q + 32] = cz
      g[q + 36] = nx / l
      g[q + 40] = ny / l
      g[q + 44] = nz / l
    }
    m.setTriangles(at, count, room(n ? m.nodeBytes(count) : 0))
  })
}

/** Which part of a triangle is nearest: inside, an edge (opposite its corner), or a corner. */
export const FACE = 0
export const CORNER_A = 1
export const CORNER_B = 2
export const CORNER_C = 3
export const EDGE_AB = 4
export const EDGE_BC = 5
export const EDGE_CA = 6

/** A closest point; reused from query to query, so that nothing is allocated. */
export interface Closest {
  d2: number
  /** triangle in the search's own order */
  triangle: number
  part: number
  x: number
  y: number
  z: number
}

export const newClosest = (): Closest => ({ d2: Infinity, triangle: -1, part: 0, x: 0, y: 0, z: 0 })

/**
 * The nearest triangle (-1 beyond maxDistance) of the places order[start .. end), each 3 of `xyz`; places that follow each other
 * should be neighbours. The answer lives in the kernels' memory: it is to be read before anything else is asked.
 */
export function closestTriangles(s: TriangleSearch, xyz: Float32Array, order: Uint32Array, start: number, end: number, maxDistance: number): Int32Array {
  useTriangles(s)
  const n = end - start
  const places = new Float32Array(3 * n)
  for (let i = 0; i < n; i++) for (let k = 0; k < 3; k++) places[3 * i + k] = xyz[3 * order[start + i] + k]
  const at = put(places)
  const out = room(4 * n)
  const answers = intsAt(out, n)
  if (!s.ids.length) return answers.fill(-1)
  machine().closestTriangles(n, at, maxDistance * maxDistance, out)
  const last = s.ids.length - 1
  for (let i = 0; i < n; i++) if (answers[i] > last) answers[i] = last
  return answers
}

/** Exact closest point on one triangle (Ericson 2005, 5.1.5), into `best`. */
export function closestOnTriangle(c: Float32Array, tri: number, px: number, py: number, pz: number, best: Closest): void {
  const o = 9 * tri
  const ax = c[o]
  const ay = c[o + 1]
  const az = c[o + 2]
  const abx = c[o + 3] - ax
  const aby = c[o + 4] - ay
  const abz = c[o + 5] - az
  const acx = c[o + 6] - ax
  const acy = c[o + 7] - ay
  const acz = c[o + 8] - az
  const apx = px - ax
  const apy = py - ay
  const apz = pz - az
  const d1 = abx * apx + aby * apy + abz * apz
  const d2 = acx * apx + acy * apy + acz * apz
  let v = 0
  let w = 0
  let part = FACE
  if (d1 <= 0 && d2 <= 0) part = CORNER_A
  else {
    const ab2 = abx * abx + aby * aby + abz * abz
    const ac2 = acx * acx + acy * acy + acz * acz
    const abac = abx * acx + aby * acy + abz * acz
    const d3 = d1 - ab2
    const d4 = d2 - abac
    const d5 = d1 - abac
    const d6 = d2 - ac2
    if (d3 >= 0 && d4 <= d3) {
      part = CORNER_B
      v = 1
    } else if (d6 >= 0 && d5 <= d6) {
      part = CORNER_C
      w = 1
    } else {
      const vc = d1 * d4 - d3 * d2
      const vb = d5 * d2 - d1 * d6
      const va = d3 * d6 - d5 * d4
      if (vc <= 0 && d1 >= 0 && d3 <= 0) {
        part = EDGE_AB
        v = d1 / (d1 - d3)
      } else if (vb <= 0 && d2 >= 0 && d6 <= 0) {
        part = EDGE_CA
        w = d2 / (d2 - d6)
      } else if (va <= 0 && d4 - d3 >= 0 && d5 - d6 >= 0) {
        part = EDGE_BC
        w = (d4 - d3) / (d4 - d3 + (d5 - d6))
        v = 1 - w
      } else {
        const s = 1 / (va + vb + vc)
        v = vb * s
        w = vc * s
      }
    }
  }
  const dx = apx - abx * v - acx * w
  const dy = apy - aby * v - acy * w
  const dz = apz - abz * v - acz * w
  best.d2 = dx * dx + dy * dy + dz * dz
  best.triangle = tri
  best.part = part
  best.x = px - dx
  best.y = py - dy
  best.z = pz - dz
}
