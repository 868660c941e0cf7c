import { f32, f64, u32, u8 } from '../base/arrays.ts'
import type { CadSurface } from '../base/cad.ts'

/** Indexed triangle mesh, mm, triangles counter-clockwise seen from outside. Immutable by convention. */
export interface Mesh {
  readonly kind: 'mesh'
  /** 3V */
  readonly vertices: Float32Array
  /** 3T indices into vertices / 3 */
  readonly triangles: Uint32Array
  /** T: number of the CAD face each triangle belongs to, for nominals */
  readonly faces?: Uint32Array
  /** what each of these faces is exactly, in the frame of the vertices */
  readonly surfaces?: readonly CadSurface[]
  /** T: 1 where the surface was filled or extrapolated. It never becomes 0 again. */
  readonly unmeasured?: Uint8Array
  /** 3V, 0..255 */
  readonly colours?: Uint8Array
}

export const vertexCount = (m: Mesh) => m.vertices.length / 3
export const triangleCount = (m: Mesh) => m.triangles.length / 3

export function makeMesh(parts: {
  vertices: Float32Array
  triangles: Uint32Array
  faces?: Uint32Array | undefined
  surfaces?: readonly CadSurface[] | undefined
  unmeasured?: Uint8Array | undefined
  colours?: Uint8Array | undefined
}): Mesh {
  return {
    kind: 'mesh',
    vertices: parts.vertices,
    triangles: parts.triangles,
    ...(parts.faces ? { faces: parts.faces } : {}),
    ...(parts.faces && parts.surfaces ? { surfaces: parts.surfaces } : {}),
    ...(parts.unmeasured ? { unmeasured: parts.unmeasured } : {}),
    ...(parts.colours ? { colours: parts.colours } : {}),
  }
}

/** Triangles around each vertex: those of vertex v are list[start[v] .. start[v + 1]). Counting sort, O(T). */
export function vertexTriangles(triangles: Uint32Array, vertices: number): { start: Uint32Array; list: Uint32Array } {
  const start = u32(vertices + 1)
  for (let i = 0; i < triangles.length; i++) start[triangles[i] + 1]++
  for (let v = 0; v < vertices; v++) start[v + 1] += start[v]
  const fill = start.slice()
  const list = u32(triangles.length)
  for (let i = 0; i < triangles.length; i++) list[fill[triangles[i]]++] = (i / 3) | 0
  return { start, list }
}

const across = new Float64Array(3)

/** Leaves the cross product of two sides of triangle i in `across`; its length, twice the area. No object a triangle, and no Math.hypot: four times as slow. */
function crossSides(p: ArrayLike<number>, t: ArrayLike<number>, i: number): number {
  const a = 3 * t[3 * i]
  const b = 3 * t[3 * i + 1]
  const c = 3 * t[3 * i + 2]
  const ux = p[b] - p[a]
  const uy = p[b + 1] - p[a + 1]
  const uz = p[b + 2] - p[a + 2]
  const wx = p[c] - p[a]
  const wy = p[c + 1] - p[a + 1]
  const wz = p[c + 2] - p[a + 2]
  const x = uy * wz - uz * wy
  const y = uz * wx - ux * wz
  const z = ux * wy - uy * wx
  across[0] = x
  across[1] = y
  across[2] = z
  return Math.sqrt(x * x + y * y + z * z)
}

/** Unit normal of triangle i by the right-hand rule; (0, 0, 0) where it has no area. */
export function triangleNormal(p: ArrayLike<number>, t: ArrayLike<number>, i: number): [number, number, number] {
  const l = crossSides(p, t, i) || 1
  return [across[0] / l, across[1] / l, across[2] / l]
}

/** Area of triangle i, mm2. */
export const triangleArea = ({ vertices, triangles }: Mesh, i: number): number => crossSides(vertices, triangles, i) / 2

/** Areas of all triangles (T, mm2). */
export function triangleAreas(mesh: Mesh): Float64Array {
  const out = f64(triangleCount(mesh))
  for (let i = 0; i < out.length; i++) out[i] = triangleArea(mesh, i)
  return out
}

/** Area of each vertex: a third of its measured triangles' (V, mm2). The weights of an area-weighted statistic over vertices. */
export function vertexAreas(mesh: Mesh): Float64Array {
  const areas = triangleAreas(mesh)
  const out = f64(vertexCount(mesh))
  for (let i = 0; i < mesh.triangles.length; i++) if (!mesh.unmeasured?.[(i / 3) | 0]) out[mesh.triangles[i]] += areas[(i / 3) | 0] / 3
  return out
}

/** V: 1 where a measured triangle has a corner. Nothing where all are measured. */
export function measuredVertices(mesh: Mesh): Uint8Array | undefined {
  if (!mesh.unmeasured) return undefined
  const out = u8(vertexCount(mesh))
  for (let i = 0; i < mesh.triangles.length; i++) if (!mesh.unmeasured[(i / 3) | 0]) out[mesh.triangles[i]] = 1
  return out
}

/** Angle-weighted vertex normals (3V; Thuermer and Wuethrich 1998). Zero where a vertex has no area. */
export function vertexNormals(mesh: Mesh): Float32Array {
  const { vertices: p, triangles: t } = mesh
  const n = f32(p.length)
  const e = new Float64Array(9)
  for (let i = 0; i < t.length; i += 3) {
    for (let k = 0; k < 3; k++) {
      const a = 3 * t[i + k]
      const b = 3 * t[i + ((k + 1) % 3)]
      e[3 * k] = p[b] - p[a]
      e[3 * k + 1] = p[b + 1] - p[a + 1]
      e[3 * k + 2] = p[b + 2] - p[a + 2]
    }
    let nx = e[1] * e[5] - e[2] * e[4]
    let ny = e[2] * e[3] - e[0] * e[5]
    let nz = e[0] * e[4] - e[1] * e[3]
    const l = Math.sqrt(nx * nx + ny * ny + nz * nz)
    if (l === 0) continue
    nx /= l
    ny /= l
    nz /= l
    for (let k = 0; k < 3; k++) {
      const u = 3 * k
      const v = 3 * ((k + 2) % 3)
      const dot = -(e[u] * e[v] + e[u + 1] * e[v + 1] + e[u + 2] * e[v + 2])
      const cx = e[u + 1] * e[v + 2] - e[u + 2] * e[v + 1]
      const cy = e[u + 2] * e[v] - e[u] * e[v + 2]
      const cz = e[u] * e[v + 1] - e[u + 1] * e[v]
      const w = Math.atan2(Math.sqrt(cx * cx + cy * cy + cz * cz), dot)
      const o = 3 * t[i + k]
      n[o] += w * nx
      n[o + 1] += w * ny
      n[o + 2] += w * nz
    }
  }
  for (let o = 0; o < n.length; o += 3) {
    const l = Math.sqrt(n[o] * n[o] + n[o + 1] * n[o + 1] + n[o + 2] * n[o + 2])
    if (l > 0) {
      n[o] /= l
      n[o + 1] /= l
      n[o + 2] /= l
    }
  }
  return n
}

/** The triangles whose keep flag is not 0, without the vertices that nothing uses any more. */
export function keepTriangles(mesh: Mesh, keep: Uint8Array): Mesh {
  let n = 0
  for (let i = 0; i < keep.length; i++) if (keep[i]) n++
  const triangles = u32(3 * n)
  const faces = mesh.faces && u32(n)
  const unmeasured = mesh.unmeasured && u8(n)
  for (let i = 0, o = 0; i < keep.length; i++)
    if (keep[i]) {
      triangles[3 * o] = mesh.triangles[3 * i]
      triangles[3 * o + 1] = mesh.triangles[3 * i + 1]
      triangles[3 * o + 2] = mesh.triangles[3 * i + 2]
      if (faces && mesh.faces) faces[o] = mesh.faces[i]
      if (unmeasured && mesh.unmeasured) unmeasured[o] = mesh.unmeasured[i]
      o++
    }
  return compact(makeMesh({ ...mesh, triangles, faces, unmeasured }))
}

/** Drops the vertices that no triangle uses; order kept. */
export function compact(mesh: Mesh): Mesh {
  const used = new Int32Array(vertexCount(mesh)).fill(-1)
  let n = 0
  for (let i = 0; i < mesh.triangles.length; i++) used[mesh.triangles[i]] = 0
  for (let v = 0; v < used.length; v++) if (used[v] === 0) used[v] = n++
  if (n === used.length) return mesh
  const vertices = f32(3 * n)
  const colours = mesh.colours && u8(3 * n)
  for (let v = 0; v < used.length; v++) {
    const o = used[v]
    if (o < 0) continue
    for (let k = 0; k < 3; k++) {
      vertices[3 * o + k] = mesh.vertices[3 * v + k]
      if (colours && mesh.colours) colours[3 * o + k] = mesh.colours[3 * v + k]
    }
  }
  const triangles = u32(mesh.triangles.length)
  for (let i = 0; i < triangles.length; i++) triangles[i] = used[mesh.triangles[i]]
  return makeMesh({ ...mesh, vertices, triangles, colours })
}

/** Same mesh, inside out. */
export function flipMesh(mesh: Mesh): Mesh {
  const triangles = u32(mesh.triangles.length)
  for (let i = 0; i < triangles.length; i += 3) {
    triangles[i] = mesh.triangles[i]
    triangles[i + 1] = mesh.triangles[i + 2]
    triangles[i + 2] = mesh.triangles[i + 1]
  }
  return makeMesh({ ...mesh, triangles })
}

/** Vertices moved by a rigid pose. */
export function transformMesh(mesh: Mesh, pose: ArrayLike<number>): Mesh {
  const v = mesh.vertices
  const vertices = f32(v.length)
  for (let i = 0; i < v.length; i += 3)
    for (let r = 0; r < 3; r++) vertices[i + r] = pose[4 * r] * v[i] + pose[4 * r + 1] * v[i + 1] + pose[4 * r + 2] * v[i + 2] + pose[4 * r + 3]
  return makeMesh({ ...mesh, vertices, surfaces: mesh.surfaces?.map((s) => movedSurface(s, pose)) })
}

/** A face's exact surface seen from its other side: what was material is outside. */
export function turnedSurface(s: CadSurface): CadSurface {
  if (s.kind === 'plane') return { ...s, normal: s.normal.map((v) => -v) as [number, number, number] }
  return 'hollow' in s ? { ...s, hollow: !s.hollow } : s
}

/** A face's exact surface in another frame. */
export function movedSurface(s: CadSurface, pose: ArrayLike<number>): CadSurface {
  const turn = (v: readonly number[]) => [0, 1, 2].map((r) => pose[4 * r] * v[0] + pose[4 * r + 1] * v[1] + pose[4 * r + 2] * v[2]) as [number, number, number]
  const place = (v: readonly number[]) => turn(v).map((c, r) => c + pose[4 * r + 3]) as [number, number, number]
  return {
    ...s,
    ...('point' in s ? { point: place(s.point) } : {}),
    ...('normal' in s ? { normal: turn(s.normal) } : {}),
    ...('axis' in s ? { axis: turn(s.axis) } : {}),
  }
}
