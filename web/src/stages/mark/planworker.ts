import { rotateVector, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { PERCHES } from '@oak-gauge/core/markers/markers.ts'
import { judgePlan } from '@oak-gauge/core/markers/plan/judge.ts'
import { planScene, planStands, type PlanScene, type Stand, type View } from '@oak-gauge/core/markers/plan/scene.ts'
import { backFrom, plainMesh, tiled, upright, uprightPose, type PlainShape, type Up } from '@oak-gauge/core/markers/plan/shape.ts'
import { bendWithin, clearance } from '@oak-gauge/core/markers/plan/sites.ts'
import { castRay } from '@oak-gauge/core/space/bvh.ts'
import { makeMesh, triangleNormal } from '@oak-gauge/core/shape/mesh.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import type { Judged, PlanMarker } from './markSlice.ts'

/** What the page asks of the planner's thread. */
export type ToPlanner =
  | {
      kind: 'shape'
      shape: PlainShape | { arrays: Record<string, Float32Array | Uint32Array | Uint8Array>; pose: number[] }
      up: Up
      view: View
      from: 'above' | 'all'
    }
  | { kind: 'judge'; n: number; markers: PlanMarker[]; least: number; wanted: number; stock: Record<string, number> }
  | { kind: 'place'; n: number; origin: [number, number, number]; direction: [number, number, number]; diameter: number; clearEdge: number }
  | { kind: 'hidden'; n: number; eye: [number, number, number]; places: [number, number, number][] }

export type FromPlanner =
  | { kind: 'judged'; n: number; judged: Judged }
  | {
      kind: 'placed'
      n: number
      place: { at: [number, number, number]; normal: [number, number, number]; perch: 'part' | 'table'; clear: number; bend: number } | null
    }
  | { kind: 'hidden'; n: number; hidden: boolean[] | null }
  | { kind: 'failed'; message: string }

interface Open {
  scene: PlanScene
  stands: Stand[]
  directions: Float64Array
  view: View
  into: Mat4
  back: Mat4
}
let open: Open | undefined

/** In its own thread: the part is looked at from all sides while a marker is dragged, and the page must stay awake. */
self.onmessage = ({ data: m }: MessageEvent<ToPlanner>) => {
  try {
    if (m.kind === 'shape') open = prepare(m)
    else if (m.kind === 'judge') judge(m)
    else if (m.kind === 'hidden') hidden(m)
    else place(m)
  } catch (e) {
    post({ kind: 'failed', message: e instanceof Error ? e.message : String(e) })
  }
}
const post = (m: FromPlanner) => self.postMessage(m)

function prepare(m: Extract<ToPlanner, { kind: 'shape' }>): Open {
  const mesh =
    'kind' in m.shape
      ? plainMesh(m.shape)
      : upright(
          m.shape.arrays['vertices']
            ? makeMesh({ vertices: m.shape.arrays['vertices'] as Float32Array, triangles: m.shape.arrays['triangles'] as Uint32Array })
            : tiled(makePoints({ xyz: m.shape.arrays['xyz'] as Float32Array, normals: m.shape.arrays['normals'] as Float32Array | undefined })),
          m.shape.pose,
          m.up,
        )
  const scene = planScene(mesh)
  const { stands, directions } = planStands(scene, m.view, m.from)
  return { scene, stands, directions, view: m.view, into: uprightPose(m.up), back: backFrom(m.up) }
}

function judge(m: Extract<ToPlanner, { kind: 'judge' }>): void {
  if (!open) return
  const { scene, stands, directions, view, into } = open
  const began = performance.now()
  const verdict = judgePlan(
    scene,
    view,
    stands,
    directions,
    {
      positions: m.markers.flatMap((k) => transformPoint(into, ...k.at)),
      normals: m.markers.flatMap((k) => rotateVector(into, ...k.normal)),
      diameters: m.markers.map((k) => k.diameter),
      perch: m.markers.map((k) => PERCHES.indexOf(k.perch)),
    },
    { least: m.least, wanted: m.wanted, turns: false, stock: m.stock },
  )
  post({ kind: 'judged', n: m.n, judged: { verdict, directions: Array.from(directions), took: performance.now() - began } })
}

/** Which places the part hides from the eye. */
function hidden(m: Extract<ToPlanner, { kind: 'hidden' }>): void {
  const { scene, into } = open ?? {}
  const list =
    scene && into
      ? m.places.map((p) => {
          const e = transformPoint(into, ...m.eye)
          const q = transformPoint(into, ...p)
          const d = [q[0] - e[0], q[1] - e[1], q[2] - e[2]]
          const l = Math.hypot(d[0], d[1], d[2])
          const hit = { t: l - 1.5, triangle: -1 }
          castRay(scene.bvh, e[0], e[1], e[2], d[0] / l, d[1] / l, d[2] / l, hit)
          return hit.triangle >= 0
        })
      : null
  post({ kind: 'hidden', n: m.n, hidden: list })
}

function place(m: Extract<ToPlanner, { kind: 'place' }>): void {
  if (!open) return
  const { scene, into, back } = open
  const o = transformPoint(into, ...m.origin)
  const d = rotateVector(into, ...m.direction)
  const hit = { t: Infinity, triangle: -1 }
  castRay(scene.bvh, o[0], o[1], o[2], d[0], d[1], d[2], hit)
  const at = (t: number): [number, number, number] => [o[0] + t * d[0], o[1] + t * d[1], o[2] + t * d[2]]
  let found: Extract<FromPlanner, { kind: 'placed' }>['place'] = null
  if (hit.triangle >= 0) {
    let normal = triangleNormal(scene.mesh.vertices, scene.mesh.triangles, hit.triangle)
    if (normal[0] * d[0] + normal[1] * d[1] + normal[2] * d[2] > 0) normal = [-normal[0], -normal[1], -normal[2]]
    const p = at(hit.t)
    found = { at: p, normal, perch: 'part', clear: clearance(scene, p, normal, m.clearEdge), bend: bendWithin(scene, p, normal, m.diameter / 2 + 1) }
  } else if (d[2] < -0.05) found = { at: at((scene.table - o[2]) / d[2]), normal: [0, 0, 1], perch: 'table', clear: Infinity, bend: 0 }
  post({ kind: 'placed', n: m.n, place: found && { ...found, at: transformPoint(back, ...found.at), normal: rotateVector(back, ...found.normal) } })
}
