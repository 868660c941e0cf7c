import { invertRigid, transformPoint, type Mat4 } from '../base/mat4.ts'
import type { Placed, Points } from '../shape/points.ts'
import { nearestWithin, runsFor, type RowGrid } from '../space/rowgrid.ts'
import type { Cloud } from './cloud.ts'

/** What one scanner position has seen: nearest depth for each direction, so that space in front of it is known to be empty. */
export interface DepthMap {
  eye: [number, number, number]
  /** right, up, forward */
  axes: number[][]
  pixel: number
  side: number
  depth: Float32Array
}

/** Depth maps of the passes whose viewpoint is known, in the group's coordinates; `size` is the wanted width of a pixel at the surface. */
export function depthMaps(passes: Placed<Points>[], size: number): DepthMap[] {
  const maps: DepthMap[] = []
  for (const p of passes) {
    const v = p.data.viewpoint
    if (!v) continue
    const eye = transformPoint(p.pose, v[0], v[1], v[2])
    const n = p.data.xyz.length / 3
    const step = Math.max(1, Math.floor(n / 60_000))
    const mean = [0, 0, 0]
    let count = 0
    for (let i = 0; i < n; i += step, count++) {
      const q = transformPoint(p.pose, p.data.xyz[3 * i], p.data.xyz[3 * i + 1], p.data.xyz[3 * i + 2])
      for (let k = 0; k < 3; k++) mean[k] += q[k]
    }
    const f = [0, 1, 2].map((k) => mean[k] / count - eye[k])
    const far = Math.hypot(f[0], f[1], f[2])
    const forward = f.map((x) => x / far)
    const helper = Math.abs(forward[2]) > 0.9 ? [1, 0, 0] : [0, 0, 1]
    const r = [
      forward[1] * helper[2] - forward[2] * helper[1],
      forward[2] * helper[0] - forward[0] * helper[2],
      forward[0] * helper[1] - forward[1] * helper[0],
    ]
    const rl = Math.hypot(r[0], r[1], r[2])
    const right = r.map((x) => x / rl)
    const up = [right[1] * forward[2] - right[2] * forward[1], right[2] * forward[0] - right[0] * forward[2], right[0] * forward[1] - right[1] * forward[0]]
    const side = 256
    const map: DepthMap = { eye, axes: [right, up, forward], pixel: size / far, side, depth: new Float32Array(side * side).fill(Infinity) }
    for (let i = 0; i < n; i += step) {
      const q = transformPoint(p.pose, p.data.xyz[3 * i], p.data.xyz[3 * i + 1], p.data.xyz[3 * i + 2])
      const [c, d] = project(map, q)
      if (c >= 0 && d < map.depth[c]) map.depth[c] = d
    }
    maps.push(map)
  }
  return maps
}

function project(m: DepthMap, q: number[]): [number, number] {
  const d = [q[0] - m.eye[0], q[1] - m.eye[1], q[2] - m.eye[2]]
  const on = (a: number[]) => a[0] * d[0] + a[1] * d[1] + a[2] * d[2]
  const z = on(m.axes[2])
  if (z <= 0) return [-1, 0]
  const x = Math.floor(on(m.axes[0]) / z / m.pixel + m.side / 2)
  const y = Math.floor(on(m.axes[1]) / z / m.pixel + m.side / 2)
  return x > 0 && y > 0 && x < m.side - 1 && y < m.side - 1 ? [y * m.side + x, z] : [-1, 0]
}

/** Share of 3N points (already in the map's coordinates through `pose`) that would hang in space which a scanner has seen to be empty. */
function floating(maps: DepthMap[], xyz: Float32Array, pose: Mat4, margin: number): number {
  if (maps.length === 0) return 0
  let bad = 0
  const n = xyz.length / 3
  for (let i = 0; i < n; i++) {
    const q = transformPoint(pose, xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2])
    for (const m of maps) {
      const [c, z] = project(m, q)
      if (c < 0) continue
      // nearest of the pixel and its eight neighbours: silhouettes must not accuse
      let near = Infinity
      for (let dy = -1; dy <= 1; dy++) for (let dx = -1; dx <= 1; dx++) near = Math.min(near, m.depth[c + dy * m.side + dx])
      if (near < Infinity && z < near - margin) {
        bad++
        break
      }
    }
  }
  return bad / n
}

export interface Verdict {
  /** share of the loose side that lies on anchor surface */
  agree: number
  /** share that contradicts: close to the surface but clearly off it, or in space seen to be empty */
  against: number
}

const d2 = new Float64Array(1)

/** Judges a pose by agreeing and contradicting surface. grid: over fixed.xyz. */
export function verifyPose(fixed: Cloud, grid: RowGrid, moving: Cloud, pose: Mat4, fixedMaps: DepthMap[], movingMaps: DepthMap[]): Verdict {
  const size = fixed.size
  const reach = 2 * size
  const runs = runsFor(grid, reach)
  const n = moving.xyz.length / 3
  let agree = 0
  let off = 0
  for (let i = 0; i < 3 * n; i += 3) {
    const [x, y, z] = transformPoint(pose, moving.xyz[i], moving.xyz[i + 1], moving.xyz[i + 2])
    const k = nearestWithin(grid, x, y, z, reach, runs, d2)
    if (k < 0) continue
    const o = 3 * grid.ids[k]
    let c = 0
    for (let r = 0; r < 3; r++)
      c += fixed.normals[o + r] * (pose[4 * r] * moving.normals[i] + pose[4 * r + 1] * moving.normals[i + 1] + pose[4 * r + 2] * moving.normals[i + 2])
    const e = Math.abs((x - fixed.xyz[o]) * fixed.normals[o] + (y - fixed.xyz[o + 1]) * fixed.normals[o + 1] + (z - fixed.xyz[o + 2]) * fixed.normals[o + 2])
    if (c > 0.8 && e < 0.4 * size) agree++
    else if (c > 0.5 && e > 0.6 * size && Math.sqrt(d2[0]) < 1.6 * size) off++
  }
  const hanging = floating(fixedMaps, moving.xyz, pose, 2.5 * size) + floating(movingMaps, fixed.xyz, invertRigid(pose), 2.5 * size)
  return { agree: agree / n, against: off / n + hanging }
}
