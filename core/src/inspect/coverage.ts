import { triangleAreas, triangleNormal, type Mesh } from '../shape/mesh.ts'
import { sampleMesh } from '../shape/sample.ts'
import { buildTriangleSearch, closestOnTriangle, closestTriangles, newClosest } from '../space/closest.ts'
import { mortonOrder } from '../space/morton.ts'

export interface FaceCoverage {
  /** number of the face, or of the side it looks to (SIDES) where the mesh knows no faces */
  face: number
  /** mm2 */
  area: number
  /** share of it that is covered, 0..1 */
  covered: number
  /** the way out, on average over the face */
  normal: [number, number, number]
  /** a covered place near the middle of what is covered; undefined where nothing is */
  at?: [number, number, number]
}

export interface Coverage {
  /** share of the area, 0..1 */
  covered: number
  /** largest first */
  faces: FaceCoverage[]
}

/** Where a nominal knows no faces, its surface is told apart by the way it looks. */
export const SIDES = ['+x', '-x', '+y', '-y', '+z', '-z'] as const
const SAMPLES = 20_000
/** surfaces that look apart by more are not the same: the other side of a sheet. Cosine */
const SAME_SIDE = 0.5

/**
 * How much of a nominal was measured: of places spread evenly over its surface those that have measured surface within reach (mm) that looks the same way.
 * Both meshes in the same axes; what of the measured one was filled (`unmeasured`) covers nothing. Places that lie evenly: a share of 90 % of a face of 1000 mm2 of
 * 60 000 is known to 2 points.
 */
export function coverageOf(nominal: Mesh, measured: Mesh, reach: number): Coverage {
  const samples = sampleMesh(nominal, SAMPLES)
  const search = buildTriangleSearch(measured)
  const order = Uint32Array.from(mortonOrder(samples.xyz))
  const near = closestTriangles(search, samples.xyz, order, 0, SAMPLES, reach)
  const best = newClosest()
  const each = new Map<number, { count: number; normal: [number, number, number]; hit: number[] }>()
  const total = triangleAreas(nominal).reduce((s, a) => s + a, 0)
  let all = 0
  for (let k = 0; k < SAMPLES; k++) {
    const i = order[k]
    const face = nominal.faces ? nominal.faces[samples.triangle[i]] : sideOf(samples.normals, i)
    let f = each.get(face)
    if (!f) each.set(face, (f = { count: 0, normal: [0, 0, 0], hit: [] }))
    f.count++
    for (let c = 0; c < 3; c++) f.normal[c] += samples.normals[3 * i + c]
    if (near[k] < 0) continue
    const t = search.ids[near[k]]
    if (measured.unmeasured?.[t]) continue
    best.d2 = Infinity
    closestOnTriangle(search.corners, near[k], samples.xyz[3 * i], samples.xyz[3 * i + 1], samples.xyz[3 * i + 2], best)
    if (best.d2 > reach * reach) continue
    const n = triangleNormal(measured.vertices, measured.triangles, t)
    if (n[0] * samples.normals[3 * i] + n[1] * samples.normals[3 * i + 1] + n[2] * samples.normals[3 * i + 2] < SAME_SIDE) continue
    f.hit.push(i)
    all++
  }
  const faces = [...each].map(([face, { count, normal, hit }]): FaceCoverage => {
    const middle = middleOf(samples.xyz, hit)
    return {
      face,
      area: (total * count) / SAMPLES,
      covered: hit.length / count,
      normal: normal.map((v) => v / count) as [number, number, number],
      ...(middle < 0 ? {} : { at: [samples.xyz[3 * middle], samples.xyz[3 * middle + 1], samples.xyz[3 * middle + 2]] as [number, number, number] }),
    }
  })
  return { covered: all / SAMPLES, faces: faces.sort((a, b) => b.area - a.area) }
}

function sideOf(normals: Float32Array, i: number): number {
  const n = [normals[3 * i], normals[3 * i + 1], normals[3 * i + 2]]
  const axis = [0, 1, 2].reduce((a, b) => (Math.abs(n[b]) > Math.abs(n[a]) ? b : a))
  return 2 * axis + (n[axis] < 0 ? 1 : 0)
}

/** Of the places the one nearest to the mean of all; -1 of none. */
function middleOf(xyz: Float32Array, list: number[]): number {
  const mean = [0, 0, 0]
  for (const i of list) for (let k = 0; k < 3; k++) mean[k] += xyz[3 * i + k] / list.length
  let [best, least] = [-1, Infinity]
  for (const i of list) {
    const d = [0, 1, 2].reduce((s, k) => s + (xyz[3 * i + k] - mean[k]) ** 2, 0)
    if (d < least) [best, least] = [i, d]
  }
  return best
}
