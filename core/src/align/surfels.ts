import { f32, u8 } from '../base/arrays.ts'
import { defineKernel, subProgress, type RunContext } from '../base/run.ts'
import { quantile } from '../base/stats.ts'
import { localPlane, newLocalPlane } from '../shape/localplane.ts'
import { localSurface, newLocalSurface, type LocalSurface, type SurfaceGrid } from '../shape/localsurface.ts'
import { buildRowGrid, rowRuns, runsFor } from '../space/rowgrid.ts'
import { signAt, type Side } from './side.ts'

/**
 * Surface elements: sample points moved onto the quadric through their neighbours, kept only where that quadric is trustworthy.
 * This is what makes alignment unbiased: a surface that straddles an edge pushes along the weak direction and no residual shows it.
 * Measured on the bracket, underside passes, rms to truth: all points 0.162 mm, edges rejected 0.005. Planes in place of quadrics: at 0.7 mm spacing
 * 0.33 mm off, since the rounds that hold a direction bend within the few points that there are.
 */
export interface Surfels {
  /** 3N, local coordinates of the pass */
  xyz: Float32Array
  /** 3N, out of the material */
  normals: Float32Array
  /** N: which of SCALES */
  scale: Uint8Array
  /** N: variance of the place across the surface, mm^2 */
  variance: Float32Array
  /** chosen ones, by direction */
  index: Int32Array
  /** N: share of independent information of the chosen ones */
  share: Float32Array
  /** noise of the pass across its surface, mm */
  sigma: number
}

interface SurfelArgs {
  grid: SurfaceGrid
  side: Side
  stride: number
  radius: number
  xyz: Float32Array
  normals: Float32Array
  sigmas: Float32Array
  variance: Float32Array
  good: Uint8Array
  scale: Uint8Array
  /** residual above which a surface is unsound; Infinity while the noise is still being measured */
  limit: number
  /** noise of the pass, mm */
  noise: number
}

/** Radii tried, largest first, as shares of the given one: what bends or ends too soon for the largest may do for a smaller one. */
export const SCALES = [1, 0.75, 0.55]
/** A surface is sound while its residual is under this many times the noise of the pass. 1.4: bracket at 0.77 mm 0.025 mm off where this gives 0.009. */
export const SOUND = 1.25
/** At the border of a pass the points lie to one side: the surface is then a guess beyond what was seen. 0.2: bracket at 1.5 mm 0.20 mm off, 0.1: 0.08. */
export const OFF_CENTRE = 0.1
/** Below this many points six unknowns leave no judgement of the residual. */
export const FEWEST = 14
/**
 * However small the noise, surfaces are so much (shares of the spacing) off their quadrics. Judged by the spread on flat faces alone, the walls of
 * an almost noiseless scan would be thrown out, and with them what holds a direction.
 */
const SMOOTH = 0.02
/** candidates for each surfel that is kept */
const CANDIDATES = 6

/** Whether a fitted surface may be trusted. `limit`: largest residual, mm. */
export function sound(q: LocalSurface, limit: number): boolean {
  return q.count >= FEWEST && q.sigma <= limit && q.breadth > 0.25 && q.offside < OFF_CENTRE
}

export const surfelKernel = defineKernel('align.surfels', (a: SurfelArgs, start: number, end: number) => {
  const { grid, side, radius, xyz, normals } = a
  const plane = newLocalPlane()
  const q = newLocalSurface()
  const last = grid.ids.length - 1
  for (let s = start; s < end; s++) {
    const at = Math.min(last, Math.floor((s + 0.5) * a.stride))
    const i = 3 * at
    const x = grid.xyz[i]
    const y = grid.xyz[i + 1]
    const z = grid.xyz[i + 2]
    a.good[s] = 0
    a.sigmas[s] = Infinity
    for (let k = 0; k < SCALES.length; k++) {
      const r = SCALES[k] * radius
      localPlane(grid, x, y, z, r, plane)
      if (plane.count < FEWEST) break
      const sign = signAt(side, x, y, z, plane.nx, plane.ny, plane.nz, grid.ids[at])
      localSurface(grid, x, y, z, r, sign * plane.nx, sign * plane.ny, sign * plane.nz, q)
      if (q.count < FEWEST) break
      a.sigmas[s] = Math.min(a.sigmas[s], q.sigma)
      // a sample that is itself a stray lies off its neighbours' surface
      if (!sound(q, a.limit) || Math.abs(q.height) > 4 * q.sigma + 1e-6 * r) continue
      // once more from the surface itself, as the other passes will look at it: the same ball over the same tangent plane. Without it gaps of rounds
      // were off by a quarter of their deviation, all to one side
      const px = x + q.height * sign * plane.nx
      const py = y + q.height * sign * plane.ny
      const pz = z + q.height * sign * plane.nz
      const { nx, ny, nz } = q
      localSurface(grid, px, py, pz, r, nx, ny, nz, q)
      if (!sound(q, a.limit)) continue
      a.good[s] = 1
      a.scale[s] = k
      xyz[3 * s] = px + q.height * nx
      xyz[3 * s + 1] = py + q.height * ny
      xyz[3 * s + 2] = pz + q.height * nz
      normals[3 * s] = q.nx
      normals[3 * s + 1] = q.ny
      normals[3 * s + 2] = q.nz
      // the noise of a single place is known from some twenty points only: half of it is what the pass has everywhere
      a.variance[s] = q.leverage * 0.5 * (q.sigma * q.sigma + a.noise * a.noise)
      break
    }
  }
})

/** Surfels of one pass. radius: of the largest neighbourhood, mm; samples: how many are chosen at the most; spacing: of its points, mm. */
export async function findSurfels(grid: SurfaceGrid, side: Side, radius: number, samples: number, spacing: number, ctx: RunContext): Promise<Surfels> {
  // the noise first, from a sparse sample; then the surfels that are sound by it
  const probe = room(grid, side, Math.min(2000, 2 * samples), radius, Infinity, 0)
  await ctx.parallel.map(surfelKernel, probe, probe.good.length, 512, ctx)
  const finite = probe.sigmas.filter((s) => s < Infinity)
  // edges only ever make a residual larger: below the middle
  const sigma = Math.max(finite.length ? quantile(finite, 0.4) : 0, SMOOTH * spacing)
  const all = room(grid, side, CANDIDATES * samples, radius, SOUND * sigma, sigma)
  const part = subProgress(ctx, 0.1, 1)
  await ctx.parallel.map(surfelKernel, all, all.good.length, 1024, ctx, (d) => part.progress(d))
  const index = balanceByNormal(all.normals, all.good, samples)
  const share = independentShare(all.xyz, all.scale, index, radius)
  return { xyz: all.xyz, normals: all.normals, scale: all.scale, variance: all.variance, index, share, sigma }
}

function room(grid: SurfaceGrid, side: Side, samples: number, radius: number, limit: number, noise: number): SurfelArgs {
  const n = Math.min(samples, grid.ids.length)
  return {
    grid,
    side,
    stride: grid.ids.length / Math.max(1, n),
    radius,
    xyz: f32(3 * n),
    normals: f32(3 * n),
    sigmas: f32(n),
    variance: f32(n),
    good: u8(n),
    scale: u8(n),
    limit,
    noise,
  }
}

const BUCKETS = 24

/**
 * Chooses about `target` of the good samples so that every direction of the normals is served alike (Rusinkiewicz and
 * Levoy 2001): flat faces give thousands of surfels that say the same, a round gives few that hold a direction alone.
 */
export function balanceByNormal(normals: Float32Array, good: Uint8Array, target: number): Int32Array {
  const bucket = new Int16Array(good.length).fill(-1)
  const sizes = new Int32Array(BUCKETS * BUCKETS)
  for (let s = 0; s < good.length; s++) {
    if (!good[s]) continue
    // octahedral map of the sphere (Meyer 2010)
    const l = Math.abs(normals[3 * s]) + Math.abs(normals[3 * s + 1]) + Math.abs(normals[3 * s + 2])
    let x = normals[3 * s] / l
    let y = normals[3 * s + 1] / l
    if (normals[3 * s + 2] < 0) [x, y] = [(1 - Math.abs(y)) * Math.sign(x || 1), (1 - Math.abs(x)) * Math.sign(y || 1)]
    const u = Math.min(BUCKETS - 1, Math.floor((x / 2 + 0.5) * BUCKETS))
    const v = Math.min(BUCKETS - 1, Math.floor((y / 2 + 0.5) * BUCKETS))
    bucket[s] = u * BUCKETS + v
    sizes[bucket[s]]++
  }
  const ordered = [...sizes].sort((a, b) => a - b)
  let left = target
  let cap = 0
  for (let i = 0; i < ordered.length; i++) {
    cap = left / (ordered.length - i)
    if (ordered[i] > cap) break
    left -= ordered[i]
    cap = Infinity
  }
  const seen = new Int32Array(sizes.length)
  const chosen: number[] = []
  for (let s = 0; s < good.length; s++) {
    const b = bucket[s]
    if (b < 0) continue
    // evenly out of each bucket
    const take = Math.min(sizes[b], Math.ceil(cap))
    const k = seen[b]++
    if (Math.floor(((k + 1) * take) / sizes[b]) > Math.floor((k * take) / sizes[b])) chosen.push(s)
  }
  return Int32Array.from(chosen)
}

/**
 * Share of independent information of each chosen surfel: its surface averages the points of a disc, and the discs of neighbouring surfels
 * overlap. One over the number of chosen surfels within the part of the disc that counts. The sum is then what the surface really says.
 */
export function independentShare(xyz: Float32Array, scale: Uint8Array, chosen: Int32Array, radius: number): Float32Array {
  const own = f32(3 * chosen.length)
  for (let i = 0; i < chosen.length; i++) for (let k = 0; k < 3; k++) own[3 * i + k] = xyz[3 * chosen[i] + k]
  const grid = buildRowGrid(own, radius)
  const runs = runsFor(grid, radius)
  const share = f32(scale.length)
  for (let i = 0; i < chosen.length; i++) {
    const r = 0.8 * SCALES[scale[chosen[i]]] * radius
    const m = rowRuns(grid, own[3 * i], own[3 * i + 1], own[3 * i + 2], r, runs)
    let n = 0
    for (let q = 0; q < m; q++)
      for (let j = runs[2 * q]; j < runs[2 * q + 1]; j++) {
        const x = grid.xyz[3 * j] - own[3 * i]
        const y = grid.xyz[3 * j + 1] - own[3 * i + 1]
        const z = grid.xyz[3 * j + 2] - own[3 * i + 2]
        if (x * x + y * y + z * z <= r * r) n++
      }
    share[chosen[i]] = 1 / Math.max(1, n)
  }
  return share
}
