import { fromQuaternion, invertRigid, transformArray, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { f32 } from '@oak-gauge/core/base/arrays.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { type Random } from '@oak-gauge/core/base/random.ts'
import { scanRange, type RangeScan, type RangeView } from '@oak-gauge/core/scanner/rangeview.ts'
import { makePoints, type Points } from '@oak-gauge/core/shape/points.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'

export interface Recorded {
  points: Points
  /** brings the pass into the true part's coordinates */
  truePose: Mat4
  /** noise-free places, in the true part's coordinates (3N) */
  truth: Float32Array
}

/** Direction of a camera by azimuth and elevation (degrees) around a target. */
export function orbit(azimuth: number, elevation: number, distance: number, target: [number, number, number]): [number, number, number] {
  const a = (azimuth * Math.PI) / 180
  const e = (elevation * Math.PI) / 180
  return [target[0] + distance * Math.cos(e) * Math.cos(a), target[1] + distance * Math.cos(e) * Math.sin(a), target[2] + distance * Math.sin(e)]
}

/** Small random pose: turned by about `degrees` about the target and shifted by about `mm`. */
export function smallPose(random: Random, degrees: number, mm: number, about: [number, number, number]): Mat4 {
  const h = (degrees * Math.PI) / 360
  const axis = [random.gauss(), random.gauss(), random.gauss()]
  const l = Math.hypot(axis[0], axis[1], axis[2])
  const m = fromQuaternion([Math.cos(h), (Math.sin(h) * axis[0]) / l, (Math.sin(h) * axis[1]) / l, (Math.sin(h) * axis[2]) / l])
  const c = transformPoint(m, ...about)
  const s = [random.gauss(), random.gauss(), random.gauss()]
  const k = mm / Math.hypot(s[0], s[1], s[2])
  for (let i = 0; i < 3; i++) m[4 * i + 3] = about[i] - c[i] + k * s[i]
  return m
}

/** Records views of a part; `poses` says where each pass's own coordinates lie: part = pose * pass. */
export async function record(part: Mesh, views: RangeView[], poses: Mat4[], ctx?: RunContext): Promise<Recorded[]> {
  const bvh = buildBvh(part, 'median')
  const out: Recorded[] = []
  for (let i = 0; i < views.length; i++) out.push(inPassCoordinates(await scanRange(part, bvh, views[i], ctx), poses[i]))
  return out
}

export function inPassCoordinates(scan: RangeScan, pose: Mat4): Recorded {
  const inverse = invertRigid(pose)
  const v = scan.points.viewpoint as [number, number, number]
  return {
    points: makePoints({
      xyz: transformArray(inverse, scan.points.xyz, f32(scan.points.xyz.length)),
      viewpoint: transformPoint(inverse, v[0], v[1], v[2]),
    }),
    truePose: pose,
    truth: scan.truth,
  }
}

/** A look at the bracket from so far round and up (degrees), by a steady scanner 420 mm away. */
export const bracketView = (azimuth: number, elevation: number, seed: number, pitch: number, limit: number): RangeView => {
  const target: [number, number, number] = [0, 0, 25]
  return {
    eye: orbit(azimuth, elevation, 420, target),
    target,
    pitch,
    halfWidth: 110,
    halfHeight: 90,
    noise: 0.03,
    baseline: 60,
    maxIncidence: 78,
    strays: 0,
    seed,
    limit,
  }
}

/** The benchmark's eight views of the bracket: six from above, two that see the underside only. */
export function benchViews(limit = 250_000): RangeView[] {
  const view = (azimuth: number, elevation: number, seed: number, pitch: number) => bracketView(azimuth, elevation, seed, pitch, limit)
  const above = [20, 80, 140, 200, 260, 320].map((a, i) => view(a, i % 2 ? 35 : 52, 11 + i, 0.21))
  return [...above, view(50, -40, 21, 0.21), view(230, -40, 22, 0.21)]
}
