import { f32 } from '../base/arrays.ts'
import { lot } from '../base/random.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { localPlane, newLocalPlane } from '../shape/localplane.ts'
import { localStrip, newLocalStrip, type LocalStrip } from '../shape/localstrip.ts'
import type { SurfaceGrid } from '../shape/localsurface.ts'
import { buildRowGrid, rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { signAt } from './side.ts'
import { STRIP, stripSoundness, type SurfelArgs } from './support.ts'

/**
 * Surface elements on faces that are too narrow for any ball: the ends of a thin channel, the walls of a flat slot. A plane through a slab instead of a quadric through
 * a ball. Sought only where no other face looks: elsewhere wide faces say the same, and better. Measured on the zoo's channel at 0.4: the slide
 * along it was not held without (refused), with them it is.
 */

/** Shares of the radius and half thicknesses (in noise) by which a strip is narrowed down. */
const SETTLING = [
  [0.5, 5],
  [0.75, 4],
  [0.75, 3],
]
/** The first normal comes from so near, as a share of the radius: further off the neighbours rule it. */
const SEED = 0.36
/** Faces within 25 degrees look the same way; the distance of their normals' ends. */
const SAME_WAY = 2 * Math.sin((12.5 * Math.PI) / 180)
/** A direction that fewer than this share of the chosen look along is lacking. */
const LACKING = 0.01
/** So many of them tell which directions there are. */
const VOICES = 1500
/** salts of the lots */
const TELLING = 5

/** Narrows a strip down from a place (3) and normal (3), which move along; gives how far it may be trusted. */
export function settleStrip(grid: SurfaceGrid, at: Float64Array, radius: number, noise: number, limit: number, s: LocalStrip): number {
  for (const [share, band] of SETTLING) {
    localStrip(grid, at[0], at[1], at[2], share * radius, at[3], at[4], at[5], band * noise, s)
    if (s.count < 8) return 0
    for (let k = 0; k < 3; k++) at[k] += s.height * at[3 + k]
    at[3] = s.nx
    at[4] = s.ny
    at[5] = s.nz
  }
  return stripSoundness(s, limit, radius)
}

interface StripArgs extends SurfelArgs {
  /** normals of chosen surfels, and how many of them make a direction known */
  known: RowGrid
  enough: number
}

export const stripKernel = defineKernel('align.strips', (a: StripArgs, start: number, end: number) => {
  const { grid, radius, known } = a
  const plane = newLocalPlane()
  const strip = newLocalStrip()
  const at = new Float64Array(6)
  const runs = runsFor(known, SAME_WAY)
  for (let s = start; s < end; s++) {
    if (a.good[s]) continue
    const i = 3 * a.at[s]
    const [x, y, z] = [grid.xyz[i], grid.xyz[i + 1], grid.xyz[i + 2]]
    localPlane(grid, x, y, z, SEED * radius, plane)
    if (plane.count < 5) continue
    const sign = signAt(a.side, x, y, z, plane.nx, plane.ny, plane.nz, grid.ids[a.at[s]])
    at.set([x, y, z, sign * plane.nx, sign * plane.ny, sign * plane.nz])
    if (looking(known, at[3], at[4], at[5], a.enough, runs)) continue
    const trust = settleStrip(grid, at, radius, a.noise, a.limit, strip)
    // a sample that is itself a stray, or that the strip went away from
    if (trust === 0 || Math.hypot(at[0] - x, at[1] - y, at[2] - z) > 4 * a.noise) continue
    if (looking(known, at[3], at[4], at[5], a.enough, runs)) continue
    a.good[s] = 1
    a.trust[s] = trust
    a.scale[s] = STRIP
    for (let k = 0; k < 3; k++) {
      a.xyz[3 * s + k] = at[k]
      a.normals[3 * s + k] = at[3 + k]
    }
    a.variance[s] = strip.leverage * 0.5 * (strip.sigma * strip.sigma + a.noise * a.noise)
  }
})

/** Whether so many of the known normals are within reach of this one. */
function looking(known: RowGrid, x: number, y: number, z: number, enough: number, runs: Int32Array): boolean {
  const m = rowRuns(known, x, y, z, SAME_WAY, runs)
  let n = 0
  for (let q = 0; q < m; q++)
    for (let j = runs[2 * q]; j < runs[2 * q + 1]; j++) {
      const dx = known.xyz[3 * j] - x
      const dy = known.xyz[3 * j + 1] - y
      const dz = known.xyz[3 * j + 2] - z
      if (dx * dx + dy * dy + dz * dz < SAME_WAY * SAME_WAY && ++n > enough) return true
    }
  return false
}

/** Strips among the samples that are on no sound surface; writes them beside the others and gives their numbers. chosen: the surfels that there are. */
export async function findStrips(all: SurfelArgs, chosen: Int32Array, ctx: RunContext): Promise<Int32Array> {
  const telling = chosen.filter((s) => lot(all.grid.ids[all.at[s]], TELLING) < VOICES / chosen.length)
  const normals = f32(3 * telling.length)
  telling.forEach((s, i) => normals.set(all.normals.subarray(3 * s, 3 * s + 3), 3 * i))
  const args: StripArgs = { ...all, known: buildRowGrid(normals, SAME_WAY), enough: LACKING * telling.length }
  await ctx.parallel.map(stripKernel, args, all.good.length, 1024, ctx)
  const out: number[] = []
  for (let s = 0; s < all.good.length; s++) if (all.scale[s] === STRIP) out.push(s)
  return Int32Array.from(out)
}
