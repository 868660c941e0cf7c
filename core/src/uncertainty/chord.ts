import { buildTriangleSearch, closestTriangles } from '../space/closest.ts'
import { triangleNormal, type Mesh } from '../shape/mesh.ts'

/** Facets that meet at more than this angle meet at an edge of the part: between them no round surface was meant. */
const SMOOTH = (30 * Math.PI) / 180

/**
 * Standard uncertainty (mm) that the facets of a nominal bring at a place (its own coordinates): how far the round surface
 * they stand for leaves them. Two facets of width w that meet at an angle a stand for an arc that rises w/2 tan(a/4) above
 * its chord; anywhere up to that is as likely (JCGM 100:2008, 4.3.7). Flat faces bring nothing.
 */
export function chordUncertainty(nominal: Mesh, at: readonly number[]): number {
  const search = buildTriangleSearch(nominal)
  const [near] = closestTriangles(search, Float32Array.from(at), Uint32Array.of(0), 0, 1, Infinity)
  if (near < 0) return 0
  const t = search.ids[near]
  const { vertices: v, triangles: tri } = nominal
  const corner = (k: number) => [0, 1, 2].map((c) => v[3 * tri[3 * t + k] + c])
  const own = triangleNormal(v, tri, t)
  let rise = 0
  for (let k = 0; k < 3; k++) {
    const [a, b, c] = [corner(k), corner((k + 1) % 3), corner((k + 2) % 3)]
    const other = across(nominal, t, a, b)
    if (other < 0) continue
    const n = triangleNormal(v, tri, other)
    const angle = Math.acos(Math.max(-1, Math.min(1, own[0] * n[0] + own[1] * n[1] + own[2] * n[2])))
    if (angle > SMOOTH) continue
    // beside a fillet the flat face is wide, and its facets are not
    const d = [0, 1, 2].map((k) => farCorner(nominal, other, a, b, k))
    rise = Math.max(rise, (Math.min(height(a, b, c), height(a, b, d)) / 2) * Math.tan(angle / 4))
  }
  return rise / Math.sqrt(3)
}

/** Coordinate c of the corner of triangle t that is on neither end of an edge. */
function farCorner(mesh: Mesh, t: number, a: number[], b: number[], c: number): number {
  const { vertices: v, triangles: tri } = mesh
  const off = (k: number, p: number[]) => Math.hypot(...[0, 1, 2].map((x) => v[3 * tri[3 * t + k] + x] - p[x]))
  const k = [0, 1, 2].sort((i, j) => Math.min(off(j, a), off(j, b)) - Math.min(off(i, a), off(i, b)))[0]
  return v[3 * tri[3 * t + k] + c]
}

/** The other triangle at an edge, by its places: nominals of STL have every corner by itself. */
function across(mesh: Mesh, t: number, a: number[], b: number[]): number {
  const { vertices: v, triangles: tri } = mesh
  const eps = 1e-6 * Math.max(1, ...a.map(Math.abs), ...b.map(Math.abs))
  const is = (i: number, p: number[]) => Math.abs(v[3 * i] - p[0]) <= eps && Math.abs(v[3 * i + 1] - p[1]) <= eps && Math.abs(v[3 * i + 2] - p[2]) <= eps
  for (let o = 0; 3 * o < tri.length; o++) {
    if (o === t) continue
    let [hasA, hasB] = [false, false]
    for (let k = 0; k < 3; k++) {
      hasA ||= is(tri[3 * o + k], a)
      hasB ||= is(tri[3 * o + k], b)
    }
    if (hasA && hasB) return o
  }
  return -1
}

/** Of a triangle over its side ab. */
function height(a: number[], b: number[], c: number[]): number {
  const [d, e] = [b.map((x, k) => x - a[k]), c.map((x, k) => x - a[k])]
  const l = Math.hypot(d[0], d[1], d[2])
  return l > 0 ? Math.hypot(d[1] * e[2] - d[2] * e[1], d[2] * e[0] - d[0] * e[2], d[0] * e[1] - d[1] * e[0]) / l : 0
}
