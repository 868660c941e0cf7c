import type { Mat4 } from '../base/mat4.ts'
import { PATCH } from './patch.ts'
import type { GrowingSurface } from './surface.ts'

/** points that are asked */
const ASKED = 1200
/** fewer are strays */
const FEWEST = 3
/** surface of so many frames is known */
export const KNOWN = 3
/** mm before and behind a point in which known surface contradicts it: farther off it may be another face */
const REACH = 8
/** cosine of the steepest angle at which that surface is told from one that only passes by */
const STEEPEST = 0.35
/** cubes off its plane, at the least: what lies nearer may be the same surface */
const APART = 0.7
/** mm, and deviations of the surface, off its plane: what lies so far off in a cube that is known is another surface, where the known one goes on all around */
const BESIDE = 0.5
const SCATTER = 6
/** cubes from a place to those around it in which the surface goes on, and off the plane of the place there, at the most */
const AROUND = 1.6
const LEVEL = 0.4

/**
 * Share of a frame's points (3N mm, scanner coordinates) that lie where nothing was seen, though along their line of sight known surface lies just before or behind
 * them, and they are not on its plane, or beside the plane of known surface that goes on all around: the same place is there twice, so what stood there has moved
 * against what holds the frame. What was not seen before lies beside known surface, on its plane or out of its sight, and counts as nothing. by: takes the cubes
 * that speak against them. 0..1. Tried: cubes that are known counted as nothing: a round part knocked across what is seen by 1.6 mm, in cubes of 2 mm, was told
 * by no frame, and smeared.
 */
export function doubledShare(surface: GrowingSurface, xyz: Float32Array, pose: Mat4, by?: (cube: number) => void): number {
  const { side } = surface
  const step = 3 * Math.max(1, Math.floor(xyz.length / 3 / ASKED))
  const at = new Float32Array(6)
  const patch = new Float64Array(PATCH)
  let [asked, doubled] = [0, 0]
  for (let i = 0; i < xyz.length; i += step) {
    const x = pose[0] * xyz[i] + pose[1] * xyz[i + 1] + pose[2] * xyz[i + 2] + pose[3]
    const y = pose[4] * xyz[i] + pose[5] * xyz[i + 1] + pose[6] * xyz[i + 2] + pose[7]
    const z = pose[8] * xyz[i] + pose[9] * xyz[i + 1] + pose[10] * xyz[i + 2] + pose[11]
    const l = Math.hypot(pose[3] - x, pose[7] - y, pose[11] - z)
    const [ux, uy, uz] = [(pose[3] - x) / l, (pose[7] - y) / l, (pose[11] - z) / l]
    asked++
    const here = surface.cubeAt(x, y, z, ux, uy, uz)
    if (here >= 0 && surface.seenIn(here) >= KNOWN) {
      if (surface.patchAt(x, y, z, ux, uy, uz, patch) && beside(surface, patch, x, y, z, ux, uy, uz)) {
        doubled++
        by?.(here)
      }
      continue
    }
    for (let s = 0.6 * side, way = 1; s <= REACH; way = -way, s += way > 0 ? 0.6 * side : 0) {
      const t = way * s
      const k = surface.cubeAt(x + t * ux, y + t * uy, z + t * uz, ux, uy, uz)
      if (k < 0 || surface.seenIn(k) < KNOWN) continue
      surface.middleOf(k, at, 0)
      const along = (at[0] - x) * ux + (at[1] - y) * uy + (at[2] - z) * uz
      const beside2 = (at[0] - x) ** 2 + (at[1] - y) ** 2 + (at[2] - z) ** 2 - along * along
      if (beside2 > (0.5 * side) ** 2 || !surface.patchAt(at[0], at[1], at[2], ux, uy, uz, patch)) continue
      if (patch[3] * ux + patch[4] * uy + patch[5] * uz < STEEPEST) continue
      const off = (x - patch[0]) * patch[3] + (y - patch[1]) * patch[4] + (z - patch[2]) * patch[5]
      if (Math.abs(off) > APART * side || beside(surface, patch, x, y, z, ux, uy, uz)) {
        doubled++
        by?.(k)
      }
      break
    }
  }
  return doubled >= FEWEST ? doubled / asked : 0
}

const around = new Float32Array(6)

/** Whether a place, seen from the direction u, lies beside a patch that is flat and goes on all around: an edge, a corner or a wall does not. */
function beside(surface: GrowingSurface, patch: Float64Array, x: number, y: number, z: number, ux: number, uy: number, uz: number): boolean {
  const [nx, ny, nz] = [patch[3], patch[4], patch[5]]
  const off = (x - patch[0]) * nx + (y - patch[1]) * ny + (z - patch[2]) * nz
  if (Math.abs(off) < BESIDE || off * off < SCATTER ** 2 * patch[7] || nx * ux + ny * uy + nz * uz < STEEPEST) return false
  // two directions along it
  const axis = Math.abs(nx) < Math.abs(ny) ? (Math.abs(nx) < Math.abs(nz) ? 0 : 2) : Math.abs(ny) < Math.abs(nz) ? 1 : 2
  let [ax, ay, az] = axis === 0 ? [0, nz, -ny] : axis === 1 ? [-nz, 0, nx] : [ny, -nx, 0]
  const step = (AROUND * surface.side) / Math.hypot(ax, ay, az)
  ax *= step
  ay *= step
  az *= step
  const [bx, by, bz] = [ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax]
  for (let k = 0; k < 4; k++) {
    const s = k & 1 ? -1 : 1
    const [tx, ty, tz] = k & 2 ? [s * bx, s * by, s * bz] : [s * ax, s * ay, s * az]
    const cube = surface.cubeAt(patch[0] + tx, patch[1] + ty, patch[2] + tz, ux, uy, uz)
    if (cube < 0 || surface.seenIn(cube) < KNOWN) return false
    surface.middleOf(cube, around, 0)
    if (Math.abs((around[0] - patch[0]) * nx + (around[1] - patch[1]) * ny + (around[2] - patch[2]) * nz) > LEVEL * surface.side) return false
  }
  return true
}
