import { cross, unit } from '../base/vec3.ts'
import { f32, GrowF32 } from '../base/arrays.ts'
import { seeded } from '../base/random.ts'
import { defineKernel, quietContext, type RunContext } from '../base/run.ts'
import { makePoints, type Points } from '../shape/points.ts'
import { triangleNormal, type Mesh } from '../shape/mesh.ts'
import { castRay, type Bvh } from '../space/bvh.ts'

/** One view of a fixed area scanner: a raster of rays from a camera, a projector beside it, noise along the ray. */
export interface RangeView {
  eye: [number, number, number]
  target: [number, number, number]
  /** distance between neighbouring rays at the target, mm */
  pitch: number
  /** half width and half height of the field at the target, mm */
  halfWidth: number
  halfHeight: number
  /** standard deviation along the ray, mm */
  noise: number
  /** projector beside the camera, mm: what it does not light is not measured */
  baseline: number
  /** steepest slant still measured, degrees between ray and surface normal */
  maxIncidence: number
  /** share of points that are flung anywhere within 10 mm along the ray */
  strays: number
  seed: number
  /** stop at about this many points, thinning evenly; 0 for all */
  limit?: number
}

export interface RangeScan {
  /** as measured, in the coordinates of the scene, with the eye as viewpoint */
  points: Points
  /** where each ray met the true surface (3N) */
  truth: Float32Array
}

interface Scene {
  vertices: Float32Array
  triangles: Uint32Array
  bvh: Bvh
  view: RangeView
}

/** Ray casts the scene as the stand-in scanner would see it. Deterministic for a seed, on any number of threads: every row has its own random numbers. */
export async function scanRange(mesh: Mesh, bvh: Bvh, view: RangeView, ctx: RunContext = quietContext): Promise<RangeScan> {
  const rows = 2 * Math.floor(view.halfHeight / view.pitch) + 1
  const parts = await ctx.parallel.map(scanRows, { vertices: mesh.vertices, triangles: mesh.triangles, bvh, view }, rows, 16, ctx)
  let xyz = joined(parts.map((p) => p.measured))
  let exact = joined(parts.map((p) => p.truth))
  const n = xyz.length / 3
  if (view.limit && n > view.limit) {
    xyz = thinEvenly(xyz, n, view.limit)
    exact = thinEvenly(exact, n, view.limit)
  }
  return { points: makePoints({ xyz, viewpoint: view.eye }), truth: exact }
}

const scanRows = defineKernel('scan-rows', ({ vertices: p, triangles, bvh, view }: Scene, start: number, end: number) => {
  const { eye, target } = view
  const fwd = unit([target[0] - eye[0], target[1] - eye[1], target[2] - eye[2]])
  const right = unit(cross(fwd, Math.abs(fwd[2]) > 0.95 ? [0, 1, 0] : [0, 0, 1]))
  const up = cross(right, fwd)
  const lamp = [0, 1, 2].map((k) => eye[k] + right[k] * view.baseline)
  const reach = Math.hypot(target[0] - eye[0], target[1] - eye[1], target[2] - eye[2])
  const minCos = Math.cos((view.maxIncidence * Math.PI) / 180)
  const nx = Math.floor(view.halfWidth / view.pitch)
  const ny = Math.floor(view.halfHeight / view.pitch)
  const measured = new GrowF32()
  const truth = new GrowF32()
  const hit = { t: 0, triangle: -1 }
  for (let row = start; row < end; row++) {
    const iy = row - ny
    const random = seeded(view.seed * 100_003 + row)
    for (let ix = -nx; ix <= nx; ix++) {
      const d = unit([0, 1, 2].map((k) => fwd[k] * reach + right[k] * ix * view.pitch + up[k] * iy * view.pitch))
      hit.t = 10 * reach
      hit.triangle = -1
      castRay(bvh, eye[0], eye[1], eye[2], d[0], d[1], d[2], hit)
      if (hit.triangle < 0) continue
      const t = hit.t
      const n = triangleNormal(p, triangles, hit.triangle)
      const c = -(d[0] * n[0] + d[1] * n[1] + d[2] * n[2])
      if (c < minCos) continue
      const at = [eye[0] + t * d[0], eye[1] + t * d[1], eye[2] + t * d[2]]
      if (view.baseline !== 0) {
        const l = [lamp[0] - at[0], lamp[1] - at[1], lamp[2] - at[2]]
        const far = Math.hypot(l[0], l[1], l[2])
        const u = l.map((v) => v / far)
        if (u[0] * n[0] + u[1] * n[1] + u[2] * n[2] < minCos) continue
        hit.t = far - 0.02
        hit.triangle = -1
        castRay(bvh, at[0] + 0.01 * u[0], at[1] + 0.01 * u[1], at[2] + 0.01 * u[2], u[0], u[1], u[2], hit)
        if (hit.triangle >= 0) continue
      }
      let s = view.noise * random.gauss()
      if (view.strays > 0 && random.next() < view.strays) s = (random.next() - 0.5) * 20
      measured.push3(at[0] + s * d[0], at[1] + s * d[1], at[2] + s * d[2])
      truth.push3(at[0], at[1], at[2])
    }
  }
  return { measured: measured.done(), truth: truth.done() }
})

function joined(parts: Float32Array[]): Float32Array {
  const out = f32(parts.reduce((s, p) => s + p.length, 0))
  let at = 0
  for (const p of parts) {
    out.set(p, at)
    at += p.length
  }
  return out
}

function thinEvenly(a: Float32Array, n: number, limit: number): Float32Array {
  const out = new Float32Array(3 * limit)
  for (let i = 0; i < limit; i++) out.set(a.subarray(3 * Math.floor((i * n) / limit), 3 * Math.floor((i * n) / limit) + 3), 3 * i)
  return out
}
