import { invertRigid } from '../base/mat4.ts'
import type { Mesh } from '../shape/mesh.ts'
import { castRay, type Bvh } from '../space/bvh.ts'
import { printTone } from './printed.ts'

/** How a surface answers light. albedo: share of light scattered evenly, gloss: strength of the mirror-like part, seeThrough: share that goes in; all 0..1 */
export interface Material {
  albedo: number
  gloss: number
  seeThrough: number
}

export const MATERIALS = {
  matte: { albedo: 0.6, gloss: 0, seeThrough: 0 },
  dark: { albedo: 0.07, gloss: 0.02, seeThrough: 0 },
  glossy: { albedo: 0.3, gloss: 0.5, seeThrough: 0 },
  'see-through': { albedo: 0.25, gloss: 0.1, seeThrough: 0.9 },
  mirror: { albedo: 0.02, gloss: 1, seeThrough: 0 },
  ceramic: { albedo: 0.75, gloss: 0.02, seeThrough: 0 },
} satisfies Record<string, Material>

/** One thing before the scanner, in world coordinates, mm. */
export type Thing =
  | { kind: 'sphere'; centre: ArrayLike<number>; radius: number; material: Material }
  /** pose: mesh to world; print: it carries blots of that size, mm */
  | { kind: 'mesh'; mesh: Mesh; bvh: Bvh; pose: ArrayLike<number>; material: Material; print?: number }
  /** a straight round rod between two points */
  | { kind: 'rod'; from: ArrayLike<number>; to: ArrayLike<number>; radius: number; material: Material }

export interface SceneHit {
  /** along the unit direction, mm; Infinity for none */
  t: number
  /** outward normal */
  nx: number
  ny: number
  nz: number
  material: Material | undefined
  /** share of its albedo that a print leaves, 0..1 */
  tone: number
}

export const emptyHit = (): SceneHit => ({ t: Infinity, nx: 0, ny: 0, nz: 0, material: undefined, tone: 1 })

/** The nearest surface along a ray (unit direction) before hit.t. */
export function castScene(things: Thing[], o: ArrayLike<number>, d: ArrayLike<number>, hit: SceneHit): void {
  for (const thing of things) {
    if (thing.kind === 'sphere') castSphere(thing, o, d, hit)
    else if (thing.kind === 'rod') castRod(thing, o, d, hit)
    else castMesh(thing, o, d, hit)
  }
}

function castSphere(s: Extract<Thing, { kind: 'sphere' }>, o: ArrayLike<number>, d: ArrayLike<number>, hit: SceneHit): void {
  const x = o[0] - s.centre[0]
  const y = o[1] - s.centre[1]
  const z = o[2] - s.centre[2]
  const b = x * d[0] + y * d[1] + z * d[2]
  const c = x * x + y * y + z * z - s.radius * s.radius
  const q = b * b - c
  if (q < 0) return
  const t = -b - Math.sqrt(q)
  if (t <= 1e-6 || t >= hit.t) return
  hit.t = t
  hit.nx = (x + t * d[0]) / s.radius
  hit.ny = (y + t * d[1]) / s.radius
  hit.nz = (z + t * d[2]) / s.radius
  hit.material = s.material
  hit.tone = 1
}

function castRod(r: Extract<Thing, { kind: 'rod' }>, o: ArrayLike<number>, d: ArrayLike<number>, hit: SceneHit): void {
  const ax = r.to[0] - r.from[0]
  const ay = r.to[1] - r.from[1]
  const az = r.to[2] - r.from[2]
  const length = Math.sqrt(ax * ax + ay * ay + az * az)
  const [ux, uy, uz] = [ax / length, ay / length, az / length]
  const x = o[0] - r.from[0]
  const y = o[1] - r.from[1]
  const z = o[2] - r.from[2]
  const du = d[0] * ux + d[1] * uy + d[2] * uz
  const ou = x * ux + y * uy + z * uz
  const a = 1 - du * du
  if (a < 1e-12) return
  const b = x * d[0] + y * d[1] + z * d[2] - ou * du
  const c = x * x + y * y + z * z - ou * ou - r.radius * r.radius
  const q = b * b - a * c
  if (q < 0) return
  const t = (-b - Math.sqrt(q)) / a
  const along = ou + t * du
  if (t <= 1e-6 || t >= hit.t || along < 0 || along > length) return
  hit.t = t
  hit.nx = (x + t * d[0] - along * ux) / r.radius
  hit.ny = (y + t * d[1] - along * uy) / r.radius
  hit.nz = (z + t * d[2] - along * uz) / r.radius
  hit.material = r.material
  hit.tone = 1
}

const meshHit = { t: 0, triangle: -1 }
function castMesh(m: Extract<Thing, { kind: 'mesh' }>, o: ArrayLike<number>, d: ArrayLike<number>, hit: SceneHit): void {
  const b = inverseOf(m.pose)
  const [ox, oy, oz] = [o[0], o[1], o[2]]
  const [dx, dy, dz] = [d[0], d[1], d[2]]
  meshHit.t = hit.t
  meshHit.triangle = -1
  castRay(
    m.bvh,
    b[0] * ox + b[1] * oy + b[2] * oz + b[3],
    b[4] * ox + b[5] * oy + b[6] * oz + b[7],
    b[8] * ox + b[9] * oy + b[10] * oz + b[11],
    b[0] * dx + b[1] * dy + b[2] * dz,
    b[4] * dx + b[5] * dy + b[6] * dz,
    b[8] * dx + b[9] * dy + b[10] * dz,
    meshHit,
  )
  if (meshHit.triangle < 0 || meshHit.t >= hit.t) return
  const { vertices: p, triangles: t } = m.mesh
  const [i, j, k] = [3 * t[3 * meshHit.triangle], 3 * t[3 * meshHit.triangle + 1], 3 * t[3 * meshHit.triangle + 2]]
  const [ax, ay, az] = [p[j] - p[i], p[j + 1] - p[i + 1], p[j + 2] - p[i + 2]]
  const [cx, cy, cz] = [p[k] - p[i], p[k + 1] - p[i + 1], p[k + 2] - p[i + 2]]
  const nx = ay * cz - az * cy
  const ny = az * cx - ax * cz
  const nz = ax * cy - ay * cx
  const l = 1 / (Math.sqrt(nx * nx + ny * ny + nz * nz) || 1)
  // from the mesh to the world: by the transpose
  hit.t = meshHit.t
  hit.nx = (b[0] * nx + b[4] * ny + b[8] * nz) * l
  hit.ny = (b[1] * nx + b[5] * ny + b[9] * nz) * l
  hit.nz = (b[2] * nx + b[6] * ny + b[10] * nz) * l
  hit.material = m.material
  const s = hit.t
  hit.tone = m.print
    ? printTone(
        b[0] * (ox + s * dx) + b[1] * (oy + s * dy) + b[2] * (oz + s * dz) + b[3],
        b[4] * (ox + s * dx) + b[5] * (oy + s * dy) + b[6] * (oz + s * dz) + b[7],
        b[8] * (ox + s * dx) + b[9] * (oy + s * dy) + b[10] * (oz + s * dz) + b[11],
        m.print,
      )
    : 1
}

const inverses = new WeakMap<object, Float64Array>()
function inverseOf(pose: ArrayLike<number>): Float64Array {
  let m = inverses.get(pose)
  if (!m) inverses.set(pose, (m = invertRigid(pose)))
  return m
}
