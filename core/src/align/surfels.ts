import { f32, f64, i32, u8 } from '../base/arrays.ts'
import { lot } from '../base/random.ts'
import { defineKernel, subProgress, type RunContext } from '../base/run.ts'
import { quantile } from '../base/stats.ts'
import { localPlane, newLocalPlane } from '../shape/localplane.ts'
import { localSurface, newLocalSurface, type SurfaceGrid } from '../shape/localsurface.ts'
import { buildCountTree, countWithin, type CountTree } from '../space/countwithin.ts'
import { buildRowGrid, rowRuns, runsFor } from '../space/rowgrid.ts'
import { signAt, type Side } from './side.ts'
import { findStrips } from './strips.ts'
import { FEWEST, RADII, SCALES, SOUND, soundness, type SurfelArgs } from './support.ts'

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
  /** N: which of RADII */
  scale: Uint8Array
  /** N: variance of the place across the surface, mm^2 */
  variance: Float32Array
  /** chosen ones, by direction */
  index: Int32Array
  /** N: share of independent information of the chosen ones */
  share: Float32Array
  /** N: the lot of each, for choosing some of them */
  lots: Float32Array
  /** noise of the pass across its surface, mm */
  sigma: number
}

/**
 * However small the noise, surfaces are so much (shares of the spacing) off their quadrics. Judged by the spread on flat faces alone, the walls of
 * an almost noiseless scan would be thrown out, and with them what holds a direction.
 */
const SMOOTH = 0.02
/** candidates for each surfel that is kept */
const CANDIDATES = 10

export const surfelKernel = defineKernel('align.surfels', (a: SurfelArgs, start: number, end: number) => {
  const { grid, side, radius, xyz, normals } = a
  const plane = newLocalPlane()
  const q = newLocalSurface()
  for (let s = start; s < end; s++) {
    const at = a.at[s]
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
      if (!soundness(q, a.limit) || Math.abs(q.height) > 4 * q.sigma + 1e-6 * r) continue
      // once more from the surface itself, as the other passes will look at it: the same ball over the same tangent plane. Without it gaps of rounds
      // were off by a quarter of their deviation, all to one side
      const px = x + q.height * sign * plane.nx
      const py = y + q.height * sign * plane.ny
      const pz = z + q.height * sign * plane.nz
      const { nx, ny, nz } = q
      localSurface(grid, px, py, pz, r, nx, ny, nz, q)
      const trust = soundness(q, a.limit)
      if (trust < a.trust[s] || trust === 0) continue
      a.good[s] = 1
      a.trust[s] = trust
      a.scale[s] = k
      xyz[3 * s] = px + q.height * nx
      xyz[3 * s + 1] = py + q.height * ny
      xyz[3 * s + 2] = pz + q.height * nz
      normals[3 * s] = q.nx
      normals[3 * s + 1] = q.ny
      normals[3 * s + 2] = q.nz
      // the noise of a single place is known from some twenty points only: half of it is what the pass has everywhere
      a.variance[s] = q.leverage * 0.5 * (q.sigma * q.sigma + a.noise * a.noise)
      // while the noise is measured the first that is sound will do: the least of several would be too small
      if (trust === 1 || a.limit === Infinity) break
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
  const ids = all.at.map((i) => grid.ids[i])
  const faces = await balanceByNormal(all.normals, all.good, ids, samples, ctx)
  const share = independentShare(all.xyz, all.scale, faces, radius)
  // where no face says anything narrow ones may; what stands around them says nothing of them
  const strips = await findStrips(all, faces, ctx)
  const own = independentShare(all.xyz, all.scale, strips, radius)
  for (const s of strips) share[s] = own[s]
  const index = i32(faces.length + strips.length)
  index.set(faces)
  index.set(strips, faces.length)
  for (const s of index) share[s] *= all.trust[s]
  const lots = Float32Array.from(ids, (id) => lot(id, EVERY))
  return { xyz: all.xyz, normals: all.normals, scale: all.scale, variance: all.variance, index, share, lots, sigma }
}

/** salts of the lots */
const SAMPLE = 1
const CHOICE = 2
const EVERY = 3
const VOICE = 4

function room(grid: SurfaceGrid, side: Side, samples: number, radius: number, limit: number, noise: number): SurfelArgs {
  const share = samples / grid.ids.length
  const drawn: number[] = []
  for (let i = 0; i < grid.ids.length; i++) if (lot(grid.ids[i], SAMPLE) < share) drawn.push(i)
  const n = drawn.length
  const at = i32(n)
  at.set(drawn)
  return {
    grid,
    side,
    at,
    radius,
    xyz: f32(3 * n),
    normals: f32(3 * n),
    sigmas: f32(n),
    variance: f32(n),
    good: u8(n),
    trust: f32(n),
    scale: u8(n),
    limit,
    noise,
  }
}

/** Normals within six degrees say the same; the distance of their ends. */
const ALIKE = 2 * Math.sin((3 * Math.PI) / 180)
/** So many of them, drawn by lot, tell how many say the same. */
const VOICES = 1500

/**
 * Chooses about `target` of the good samples so that every direction of the normals is served alike (Rusinkiewicz and
 * Levoy 2001): flat faces give thousands of surfels that say the same, a round gives few that hold a direction alone. Each stays with a probability of one over
 * the number of those that look its way, by its own lot: the choice does not hang on the axes, and what comes or goes changes no other's fate.
 * Tried: spread evenly over the surface besides (Matern's second process): no nearer the truth.
 */
export async function balanceByNormal(normals: Float32Array, good: Uint8Array, ids: ArrayLike<number>, target: number, ctx: RunContext): Promise<Int32Array> {
  let sound = 0
  for (let s = 0; s < good.length; s++) if (good[s]) sound++
  const list = i32(sound)
  for (let s = 0, o = 0; s < good.length; s++) if (good[s]) list[o++] = s
  if (sound <= target) return list
  const share = VOICES / list.length
  const heard = list.filter((s) => lot(ids[s], VOICE) < share)
  const voices = f32(3 * heard.length)
  heard.forEach((s, i) => voices.set(normals.subarray(3 * s, 3 * s + 3), 3 * i))
  const alike = f64(sound)
  await ctx.parallel.map(alikeKernel, { tree: buildCountTree(voices), normals, list, share, alike }, sound, 512, ctx)
  // probability cap / alike, at most 1; the cap that gives as many as wanted, by bisection
  let [low, high] = [0, Math.max(1, heard.length)]
  // they are counts: how many surfels have each
  const have = new Float64Array(heard.length + 1)
  for (let k = 0; k < sound; k++) have[Math.min(heard.length, Math.floor(alike[k]))]++
  for (let it = 0; it < 50; it++) {
    const cap = (low + high) / 2
    let sum = 0
    for (let n = 0; n < have.length; n++) sum += have[n] * Math.min(1, cap / Math.max(n, share))
    if (sum < target) low = cap
    else high = cap
  }
  return list.filter((s, k) => lot(ids[s], CHOICE) * alike[k] < high)
}

/** How many of the voices look the way of each. */
const alikeKernel = defineKernel(
  'align.alike',
  (
    { tree, normals, list, share, alike }: { tree: CountTree; normals: Float32Array; list: Int32Array; share: number; alike: Float64Array },
    start: number,
    end: number,
  ) => {
    for (let k = start; k < end; k++) {
      const o = 3 * list[k]
      const n = countWithin(tree, normals[o], normals[o + 1], normals[o + 2], ALIKE)
      // its own voice, in case nobody else has it
      alike[k] = Math.max(n, share)
    }
  },
)

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
    const r = 0.8 * RADII[scale[chosen[i]]] * radius
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
