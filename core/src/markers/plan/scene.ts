import { OakError } from '../../base/errors.ts'
import { seeded } from '../../base/random.ts'
import { triangleAreas, triangleNormal, type Mesh } from '../../shape/mesh.ts'
import { buildBvh, castRay, type Bvh } from '../../space/bvh.ts'
import type { ScannerSpec } from '../../scanner/spec.ts'
import { NARROWEST_MARKER, STEEPEST_MARKER } from '../../scanner/spec.ts'

/** What planning needs to know of a scanner. */
export interface View {
  /** mm */
  near: number
  ideal: number
  far: number
  /** px */
  focal: number
  /** tangents of half the field of view, across (along the base line of the cameras) and up */
  across: number
  up: number
}

export function viewOf(spec: ScannerSpec): View {
  const { left } = spec.design
  // a little less than the image: markers at the very border come and go
  const half = 0.92 / 2 / left.fx
  return { ...spec.range, focal: left.fx, across: half * left.width, up: half * left.height }
}

/** The part as it stands, and what stands around it. Z is up in all of planning. */
export interface PlanScene {
  mesh: Mesh
  bvh: Bvh
  /** height of the table */
  table: number
  /** min x y z, max x y z */
  box: number[]
  /** points over the surface, evenly: 3S, their normals, and their triangles */
  samples: { xyz: Float32Array; normals: Float32Array; triangles: Uint32Array }
  /** mean distance between neighbouring samples, mm */
  spacing: number
}

const SAMPLES = 4000

/** The scene around a mesh whose z is up; it stands on the table with its lowest point. Throws 'no-shape' for an empty mesh. */
export function planScene(mesh: Mesh): PlanScene {
  const areas = triangleAreas(mesh)
  let total = 0
  for (const a of areas) total += a
  if (!(total > 0))
    throw new OakError('no-shape', 'There is no surface to plan markers on.', { remedy: 'Choose a mesh or a nominal, or give the size of a box.' })
  const random = seeded(71)
  const xyz = new Float32Array(3 * SAMPLES)
  const normals = new Float32Array(3 * SAMPLES)
  const triangles = new Uint32Array(SAMPLES)
  const box = [Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity]
  const p = mesh.vertices
  for (let i = 0; i < p.length; i++) {
    const k = i % 3
    box[k] = Math.min(box[k], p[i])
    box[k + 3] = Math.max(box[k + 3], p[i])
  }
  // evenly along the summed areas, a random place in each stretch (stratified)
  let t = 0
  let passed = areas[0]
  for (let s = 0; s < SAMPLES; s++) {
    const at = ((s + random.next()) / SAMPLES) * total
    while (passed < at && t < areas.length - 1) passed += areas[++t]
    const [a, b, c] = [0, 1, 2].map((k) => 3 * mesh.triangles[3 * t + k])
    const r = Math.sqrt(random.next())
    const q = random.next()
    const [wa, wb, wc] = [1 - r, r * (1 - q), r * q]
    for (let k = 0; k < 3; k++) xyz[3 * s + k] = wa * p[a + k] + wb * p[b + k] + wc * p[c + k]
    normals.set(triangleNormal(p, mesh.triangles, t), 3 * s)
    triangles[s] = t
  }
  return { mesh, bvh: buildBvh(mesh, 'median'), table: box[2], box, samples: { xyz, normals, triangles }, spacing: Math.sqrt(total / SAMPLES) }
}

/** One place the scanner looks from: where it stands, where it looks, and which direction of the sphere it belongs to. */
export interface Stand {
  direction: number
  eye: [number, number, number]
  aim: [number, number, number]
  /** unit, to the side in the image: level, as a scanner is held */
  side: [number, number, number]
}

/** Why a marker is not seen from somewhere. */
export const SEEN = 0
export const REASONS = ['seen', 'too steep', 'outside the field', 'hidden', 'too small', 'too near or far'] as const

const hit = { t: 0, triangle: -1 }

/** Whether a marker is seen from a stand: number of the reason, SEEN if it is. place, normal: 3 numbers at offset o. */
export function sees(scene: PlanScene, view: View, stand: Stand, place: ArrayLike<number>, normal: ArrayLike<number>, diameter: number, o = 0): number {
  const { eye, aim } = stand
  const x = eye[0] - place[o]
  const y = eye[1] - place[o + 1]
  const z = eye[2] - place[o + 2]
  const d = Math.sqrt(x * x + y * y + z * z)
  const cos = (x * normal[o] + y * normal[o + 1] + z * normal[o + 2]) / d
  if (cos < COS_STEEPEST) return 1
  const ax = eye[0] - aim[0]
  const ay = eye[1] - aim[1]
  const az = eye[2] - aim[2]
  const l = Math.sqrt(ax * ax + ay * ay + az * az)
  const along = (x * ax + y * ay + z * az) / l
  if (along <= 0) return 2
  const { side } = stand
  const h = Math.abs(x * side[0] + y * side[1] + z * side[2])
  if (h > along * view.across) return 2
  if (d * d - along * along - h * h > (along * view.up) ** 2) return 2
  if (along < view.near || along > view.far) return 5
  if (((diameter * view.focal) / along) * cos < NARROWEST_MARKER) return 4
  hit.t = d - 0.3
  hit.triangle = -1
  castRay(scene.bvh, eye[0], eye[1], eye[2], -x / d, -y / d, -z / d, hit)
  if (hit.triangle >= 0) return 3
  return SEEN
}
const COS_STEEPEST = Math.cos((STEEPEST_MARKER * Math.PI) / 180)

/** n directions spread evenly over the sphere (Fibonacci lattice, Gonzalez 2010): 3n, unit. */
export function evenDirections(n: number): Float64Array {
  const out = new Float64Array(3 * n)
  const turn = Math.PI * (3 - Math.sqrt(5))
  for (let i = 0; i < n; i++) {
    const z = 1 - (2 * i + 1) / n
    const r = Math.sqrt(1 - z * z)
    out[3 * i] = r * Math.cos(i * turn)
    out[3 * i + 1] = r * Math.sin(i * turn)
    out[3 * i + 2] = z
  }
  return out
}

const DIRECTIONS = 180
/** a surface seen at a flatter angle gives no good points */
const FACING = 0.35

/**
 * Where the scanner has to look from so that every part of the surface is seen from every direction that shows it: for each direction the
 * aims, a field of view apart, that cover what faces it. 'above': directions at least `lowest` degrees over the table; 'all': the part is turned in the hand.
 */
export function planStands(scene: PlanScene, view: View, from: 'above' | 'all', lowest = 20): { stands: Stand[]; directions: Float64Array } {
  const all = evenDirections(DIRECTIONS)
  const directions: number[] = []
  const stands: Stand[] = []
  const { xyz, normals } = scene.samples
  const step = Math.max(1, Math.floor(xyz.length / 3 / 500))
  const reach = 0.75 * Math.sqrt(view.across * view.up) * view.ideal
  for (let i = 0; i < DIRECTIONS; i++) {
    const [x, y, z] = [all[3 * i], all[3 * i + 1], all[3 * i + 2]]
    if (from === 'above' && z < Math.sin((lowest * Math.PI) / 180)) continue
    const facing: number[] = []
    for (let s = 0; s < xyz.length / 3; s += step) {
      if (x * normals[3 * s] + y * normals[3 * s + 1] + z * normals[3 * s + 2] < FACING) continue
      hit.t = Infinity
      hit.triangle = -1
      castRay(
        scene.bvh,
        xyz[3 * s] + 0.05 * normals[3 * s],
        xyz[3 * s + 1] + 0.05 * normals[3 * s + 1],
        xyz[3 * s + 2] + 0.05 * normals[3 * s + 2],
        x,
        y,
        z,
        hit,
      )
      if (hit.triangle < 0) facing.push(s)
    }
    if (!facing.length) continue
    const direction = directions.length / 3
    directions.push(x, y, z)
    const level = Math.hypot(x, y)
    const side: [number, number, number] = level > 0.1 ? [-y / level, x / level, 0] : [1, 0, 0]
    for (const aim of aims(xyz, facing, [x, y, z], reach))
      stands.push({ direction, aim, side, eye: [aim[0] + view.ideal * x, aim[1] + view.ideal * y, aim[2] + view.ideal * z] })
  }
  return { stands, directions: Float64Array.from(directions) }
}

/**
 * Aims such that everything that faces is within reach of one, across the line of sight: the middle of all if that does, else centres as
 * far apart as can be (Gonzalez 1985), each moved to the middle of what is nearest to it, so that the field lies over the part.
 */
function aims(xyz: Float32Array, facing: number[], d: number[], reach: number): [number, number, number][] {
  const across = (s: number, a: ArrayLike<number>) => {
    const x = xyz[3 * s] - a[0]
    const y = xyz[3 * s + 1] - a[1]
    const z = xyz[3 * s + 2] - a[2]
    const along = x * d[0] + y * d[1] + z * d[2]
    return Math.sqrt(Math.max(0, x * x + y * y + z * z - along * along))
  }
  const middle = middleOf(xyz, facing)
  if (facing.every((s) => across(s, middle) <= reach)) return [middle]
  const owner = new Int32Array(facing.length)
  const distance = facing.map(() => Infinity)
  let centres = 0
  let next = 0
  for (let i = 0; i < facing.length; i++) if (across(facing[i], middle) > across(facing[next], middle)) next = i
  while (centres < 40) {
    const s = facing[next]
    const at = xyz.subarray(3 * s, 3 * s + 3)
    facing.forEach((q, i) => {
      const a = across(q, at)
      if (a < distance[i]) {
        distance[i] = a
        owner[i] = centres
      }
    })
    centres++
    next = 0
    for (let i = 0; i < facing.length; i++) if (distance[i] > distance[next]) next = i
    if (distance[next] <= reach) break
  }
  return Array.from({ length: centres }, (_, c) =>
    middleOf(
      xyz,
      facing.filter((_q, i) => owner[i] === c),
    ),
  )
}

function middleOf(xyz: Float32Array, list: number[]): [number, number, number] {
  const m: [number, number, number] = [0, 0, 0]
  for (const s of list) for (let k = 0; k < 3; k++) m[k] += xyz[3 * s + k] / list.length
  return m
}
