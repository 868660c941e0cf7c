import { seeded } from '../../base/random.ts'
import { triangleNormal } from '../../shape/mesh.ts'
import { castRay } from '../../space/bvh.ts'
import type { Perch } from '../markers.ts'
import type { PlanScene } from './scene.ts'

/** A place that could bear a marker. */
export interface Site {
  place: [number, number, number]
  normal: [number, number, number]
  diameter: number
  perch: Perch
  /** of part sites: mm to the nearest edge, up to the clearance wished for */
  clear: number
  /** of part sites: greatest distance between the ground under the marker and a plane, mm */
  bend: number
}

export const SIZES = { small: 3, large: 6 } as const
export type Sizes = 'small' | 'large' | 'mixed'

/** Keep clear: everything nearer than radius to a place, mm. */
export interface KeepClear {
  at: readonly [number, number, number]
  radius: number
}

const RINGS = [2.5, 5, 7.5, 10, 12.5, 15, 20, 25]
const SPOKES = 12
/** cosine between normals one ring apart beyond which an edge lies between: 30 degrees */
const EDGE = 0.866
/** mm a ring's ray starts above the surface: more than a gentle curve rises within a ring */
const ABOVE = 6

const hit = { t: 0, triangle: -1 }

/** How far the surface around a place goes on without an edge, step or border, mm, up to most: rings of rays onto the surface, each compared with the ring within. */
export function clearance(scene: PlanScene, p: ArrayLike<number>, n: ArrayLike<number>, most: number): number {
  const [u, v] = tangents(n)
  const last = new Float64Array(3 * SPOKES)
  for (let s = 0; s < SPOKES; s++) last.set([n[0], n[1], n[2]], 3 * s)
  let clear = 0
  for (const r of RINGS) {
    if (r > most) break
    for (let s = 0; s < SPOKES; s++) {
      const q = onSurface(scene, p, n, u, v, r, (2 * Math.PI * s) / SPOKES)
      if (q === undefined) return clear
      const m = triangleNormal(scene.mesh.vertices, scene.mesh.triangles, hit.triangle)
      if (m[0] * last[3 * s] + m[1] * last[3 * s + 1] + m[2] * last[3 * s + 2] < EDGE) return clear
      // a step of two parallel faces
      if (Math.abs(q) > 1.5 + 0.35 * r) return clear
      last.set(m, 3 * s)
    }
    clear = r
  }
  return clear
}

/** Greatest distance of the ground from its tangent plane within a radius, mm; Infinity where there is no ground. */
export function bendWithin(scene: PlanScene, p: ArrayLike<number>, n: ArrayLike<number>, radius: number): number {
  const [u, v] = tangents(n)
  let most = 0
  for (let s = 0; s < SPOKES; s++) {
    const q = onSurface(scene, p, n, u, v, radius, (2 * Math.PI * s) / SPOKES)
    if (q === undefined) return Infinity
    most = Math.max(most, Math.abs(q))
  }
  return most
}

/** Height over the tangent plane of the surface met at (r, angle) around p; undefined where nothing is met. hit holds the triangle. */
function onSurface(scene: PlanScene, p: ArrayLike<number>, n: ArrayLike<number>, u: number[], v: number[], r: number, angle: number): number | undefined {
  // a hair beside round numbers: rays that graze the edge between two triangles may slip through
  const [c, s] = [r * Math.cos(angle) + 1.3e-3, r * Math.sin(angle) + 0.7e-3]
  hit.t = 3 * ABOVE
  hit.triangle = -1
  castRay(
    scene.bvh,
    p[0] + c * u[0] + s * v[0] + ABOVE * n[0],
    p[1] + c * u[1] + s * v[1] + ABOVE * n[1],
    p[2] + c * u[2] + s * v[2] + ABOVE * n[2],
    -n[0],
    -n[1],
    -n[2],
    hit,
  )
  return hit.triangle < 0 ? undefined : ABOVE - hit.t
}

function tangents(n: ArrayLike<number>): [number[], number[]] {
  const a = Math.abs(n[0]) < 0.7 ? [1, 0, 0] : [0, 1, 0]
  const u = [n[1] * a[2] - n[2] * a[1], n[2] * a[0] - n[0] * a[2], n[0] * a[1] - n[1] * a[0]]
  const l = Math.hypot(u[0], u[1], u[2])
  const w = u.map((x) => x / l)
  return [w, [n[1] * w[2] - n[2] * w[1], n[2] * w[0] - n[0] * w[2], n[0] * w[1] - n[1] * w[0]]]
}

/** ground that bends more under a marker lifts its rim, mm */
export const FLAT = 0.25
const MOST_SITES = 700

/** Places on the part: thinned, flat enough, not to be kept clear. clearEdge: wished distance to edges, mm. */
export function partSites(scene: PlanScene, o: { sizes: Sizes; clearEdge: number; keepClear: readonly KeepClear[]; keepFaces: ReadonlySet<number> }): Site[] {
  const { xyz, normals, triangles } = scene.samples
  const count = xyz.length / 3
  const random = seeded(5)
  const order = Array.from({ length: count }, (_, i) => i)
  for (let i = count - 1; i > 0; i--) {
    const j = random.below(i + 1)
    ;[order[i], order[j]] = [order[j], order[i]]
  }
  const apart = Math.max(6, scene.spacing * Math.sqrt(count / MOST_SITES))
  const cells = new Map<string, number[]>()
  const key = (x: number, y: number, z: number) => `${Math.floor(x / apart)} ${Math.floor(y / apart)} ${Math.floor(z / apart)}`
  const out: Site[] = []
  for (const s of order) {
    const [x, y, z] = [xyz[3 * s], xyz[3 * s + 1], xyz[3 * s + 2]]
    const face = scene.mesh.faces?.[triangles[s]]
    if (face !== undefined && o.keepFaces.has(face)) continue
    if (o.keepClear.some((k) => Math.hypot(k.at[0] - x, k.at[1] - y, k.at[2] - z) < k.radius)) continue
    let crowded = false
    for (let i = -1; i <= 1 && !crowded; i++)
      for (let j = -1; j <= 1 && !crowded; j++)
        for (let k = -1; k <= 1 && !crowded; k++)
          crowded = (cells.get(key(x + i * apart, y + j * apart, z + k * apart)) ?? []).some(
            (q) => Math.hypot(xyz[3 * q] - x, xyz[3 * q + 1] - y, xyz[3 * q + 2] - z) < apart,
          )
    if (crowded) continue
    cells.set(key(x, y, z), [...(cells.get(key(x, y, z)) ?? []), s])
    const place: [number, number, number] = [x, y, z]
    const normal: [number, number, number] = [normals[3 * s], normals[3 * s + 1], normals[3 * s + 2]]
    const clear = clearance(scene, place, normal, o.clearEdge)
    const wanted = o.sizes === 'mixed' ? (random.next() < 0.5 ? SIZES.small : SIZES.large) : SIZES[o.sizes]
    for (const diameter of o.sizes === 'mixed' && wanted === SIZES.large ? [SIZES.large, SIZES.small] : [wanted]) {
      if (clear < diameter / 2 + 0.5) continue
      const bend = bendWithin(scene, place, normal, diameter / 2 + 1)
      if (bend > FLAT) continue
      out.push({ place, normal, diameter, perch: 'part', clear, bend })
      break
    }
  }
  return out
}

const CLEAR_OF_PART = 12
const BLOCK_HEIGHT = 22

/** Places around the part: table, blocks of 30 and 45 degrees, towers for tall parts. */
export function aroundSites(scene: PlanScene, o: { sizes: Sizes; blocks: boolean; towers: boolean; margin?: number }): Site[] {
  const margin = o.margin ?? 90
  const random = seeded(17)
  const { box, table } = scene
  const out: Site[] = []
  const size = () => (o.sizes === 'mixed' ? (random.next() < 0.5 ? SIZES.small : SIZES.large) : SIZES[o.sizes])
  const middle = [(box[0] + box[3]) / 2, (box[1] + box[4]) / 2]
  const height = box[5] - table
  const step = Math.max(18, Math.sqrt(((box[3] - box[0] + 2 * margin) * (box[4] - box[1] + 2 * margin)) / 700))
  const put = (place: [number, number, number], normal: [number, number, number], perch: Perch) =>
    out.push({ place, normal, diameter: size(), perch, clear: Infinity, bend: 0 })
  for (let x = box[0] - margin; x <= box[3] + margin; x += step)
    for (let y = box[1] - margin; y <= box[4] + margin; y += step) {
      const px = x + (random.next() - 0.5) * 0.8 * step
      const py = y + (random.next() - 0.5) * 0.8 * step
      const gap = footprintGap(scene, px, py)
      if (gap < CLEAR_OF_PART) continue
      put([px, py, table], [0, 0, 1], 'table')
      const r = Math.hypot(px - middle[0], py - middle[1]) || 1
      const [ox, oy] = [(px - middle[0]) / r, (py - middle[1]) / r]
      if (o.blocks && gap > 25)
        for (const [degrees, perch] of [[30, 'block-30'] as const, [45, 'block-45'] as const])
          for (const side of [1, -1]) {
            const [c, s] = [Math.cos((degrees * Math.PI) / 180), Math.sin((degrees * Math.PI) / 180)]
            put([px, py, table + BLOCK_HEIGHT / 2], [side * s * ox, side * s * oy, c], perch)
          }
      if (o.towers && height > 100 && gap > 35)
        for (const up of [0.55, 0.9])
          for (const side of [1, -1]) put([px, py, table + up * height], [side * Math.SQRT1_2 * ox, side * Math.SQRT1_2 * oy, Math.SQRT1_2], 'tower')
    }
  return out
}

/** Distance in plan between a place on the table and what of the part stands within 60 mm above the table, mm. */
export function footprintGap(scene: PlanScene, x: number, y: number): number {
  const { xyz } = scene.samples
  let best = Infinity
  for (let i = 0; i < xyz.length; i += 3) {
    if (xyz[i + 2] > scene.table + 60) continue
    const d = (xyz[i] - x) ** 2 + (xyz[i + 1] - y) ** 2
    if (d < best) best = d
  }
  return Math.sqrt(best)
}
