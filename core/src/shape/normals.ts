import { f32, u8 } from '../base/arrays.ts'
import { checkCancelled, defineKernel, subProgress, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { buildRowGrid, rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { localPlane, newLocalPlane } from './localplane.ts'
import { orientNormals } from './orient.ts'
import { makePoints, type Points } from './points.ts'
import { pointSpacing } from './spacing.ts'

export interface NormalOptions {
  /** Radius of the local plane, mm. Default: 4 point spacings. */
  radius?: number
  /** Keep normals that came with the points. Default true. */
  keepGiven?: boolean
}

export interface NormalResult {
  points: Points & { normals: Float32Array }
  /** noise across the surface, mm: median residual of the local planes */
  sigma: number
  spacing: number
  radius: number
  /** share of points whose plane straddles an edge and which took the plane of their own side instead */
  edgeShare: number
  /** how outside was told: 'viewpoint', 'given', 'guessed' */
  orientation: 'viewpoint' | 'given' | 'guessed'
}

interface PlaneArgs {
  grid: RowGrid
  radius: number
  normals: Float32Array
  sigmas: Float32Array
}

const planes = defineKernel('normals.planes', (a: PlaneArgs, start: number, end: number) => {
  const { grid, radius, normals, sigmas } = a
  const runs = runsFor(grid, radius)
  const plane = newLocalPlane()
  for (let i = start; i < end; i++) {
    localPlane(grid, grid.xyz[3 * i], grid.xyz[3 * i + 1], grid.xyz[3 * i + 2], radius, runs, plane)
    if (plane.count < 5) {
      sigmas[i] = Infinity
      normals[3 * i] = normals[3 * i + 1] = 0
      normals[3 * i + 2] = 1
      continue
    }
    normals[3 * i] = plane.nx
    normals[3 * i + 1] = plane.ny
    normals[3 * i + 2] = plane.nz
    sigmas[i] = plane.breadth < 0.02 ? Infinity : plane.sigma
  }
})

interface EdgeArgs {
  grid: RowGrid
  radius: number
  sigma: number
  normals: Float32Array
  sigmas: Float32Array
  out: Float32Array
  adopted: Uint8Array
}

/** A point beside an edge adopts the plane of the side it lies on: of its sound neighbours, the one that explains it best. */
const edges = defineKernel('normals.edges', (a: EdgeArgs, start: number, end: number) => {
  const { grid, sigma, normals, sigmas, out, adopted } = a
  const reach = 1.5 * a.radius
  const limit = EDGE_LIMIT * sigma
  const runs = runsFor(grid, reach)
  const p = grid.xyz
  const plane = newLocalPlane()
  const smallRuns = runsFor(grid, 0.6 * a.radius)
  for (let i = start; i < end; i++) {
    const o = 3 * i
    if (sigmas[i] <= limit) {
      out[o] = normals[o]
      out[o + 1] = normals[o + 1]
      out[o + 2] = normals[o + 2]
      continue
    }
    const m = rowRuns(grid, p[o], p[o + 1], p[o + 2], reach, runs)
    let best = Infinity
    let bj = -1
    for (let k = 0; k < m; k++)
      for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
        if (sigmas[j] > limit) continue
        const dx = p[o] - p[3 * j]
        const dy = p[o + 1] - p[3 * j + 1]
        const dz = p[o + 2] - p[3 * j + 2]
        const d2 = dx * dx + dy * dy + dz * dz
        if (d2 > reach * reach) continue
        const off = Math.abs(dx * normals[3 * j] + dy * normals[3 * j + 1] + dz * normals[3 * j + 2])
        const score = off + 0.1 * sigma * (d2 / (reach * reach))
        if (score < best) {
          best = score
          bj = j
        }
      }
    if (bj >= 0 && best < 3 * sigma) {
      // mean of all that agree: one neighbour's normal alone would be as noisy as its own plane
      const bx = normals[3 * bj]
      const by = normals[3 * bj + 1]
      const bz = normals[3 * bj + 2]
      let sx = 0
      let sy = 0
      let sz = 0
      for (let k = 0; k < m; k++)
        for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
          if (sigmas[j] > limit) continue
          const d = bx * normals[3 * j] + by * normals[3 * j + 1] + bz * normals[3 * j + 2]
          if (Math.abs(d) < 0.98) continue
          const dx = p[o] - p[3 * j]
          const dy = p[o + 1] - p[3 * j + 1]
          const dz = p[o + 2] - p[3 * j + 2]
          const w = 1 - (dx * dx + dy * dy + dz * dz) / (reach * reach)
          if (w <= 0) continue
          const s = d < 0 ? -w : w
          sx += s * normals[3 * j]
          sy += s * normals[3 * j + 1]
          sz += s * normals[3 * j + 2]
        }
      const l = Math.hypot(sx, sy, sz)
      out[o] = sx / l
      out[o + 1] = sy / l
      out[o + 2] = sz / l
      adopted[i] = 1
    } else {
      // nothing sound around: a feature smaller than the radius; take the smaller plane
      localPlane(grid, p[o], p[o + 1], p[o + 2], 0.6 * a.radius, smallRuns, plane)
      const ok = plane.count >= 5
      out[o] = ok ? plane.nx : normals[o]
      out[o + 1] = ok ? plane.ny : normals[o + 1]
      out[o + 2] = ok ? plane.nz : normals[o + 2]
    }
  }
})

/** A local plane is sound while its residual is below this many times the median. */
const EDGE_LIMIT = 1.4

/**
 * Unit normals out of the material for every point.
 * Local planes (Pearson 1901) within `radius`; a point near an edge, where the plane would straddle both faces and
 * tilt, adopts the plane of its own side. Outside is told from the viewpoint when the pass has one, else guessed
 * (see orient.ts) and said so.
 * Errors: none of its own; fewer than 5 neighbours leave (0, 0, 1).
 * Tried: k = 30 nearest, 3x slower and no better on an even raster; radius alone, 40 % more error within 1 mm of edges.
 */
export async function estimateNormals(points: Points, options: NormalOptions, ctx: RunContext): Promise<NormalResult> {
  const spacing = pointSpacing(points.xyz)
  const radius = options.radius ?? Math.max(4 * spacing, 1e-6)
  const n = points.xyz.length / 3
  if (points.normals && (options.keepGiven ?? true)) {
    const grid = buildRowGrid(points.xyz, radius)
    const sigma = sampleSigma(grid, radius)
    return { points: points as Points & { normals: Float32Array }, sigma, spacing, radius, edgeShare: 0, orientation: 'given' }
  }
  const grid = buildRowGrid(points.xyz, radius)
  const normals = f32(3 * n)
  const sigmas = f32(n)
  const chunk = 8192
  const first = subProgress(ctx, 0, 0.7, 'normals')
  await ctx.parallel.map(planes, { grid, radius, normals, sigmas }, n, chunk, ctx, (d) => first.progress(d))
  const finite: number[] = []
  for (let i = 0; i < n; i += Math.max(1, Math.floor(n / 20000))) if (sigmas[i] < Infinity) finite.push(sigmas[i])
  const sigma = finite.length ? median(finite) : 0
  checkCancelled(ctx)
  const sortedOut = f32(3 * n)
  const adopted = u8(n)
  const second = subProgress(ctx, 0.7, 0.95, 'edges')
  await ctx.parallel.map(edges, { grid, radius, sigma, normals, sigmas, out: sortedOut, adopted }, n, chunk, ctx, (d) => second.progress(d))
  let edgeCount = 0
  for (let i = 0; i < n; i++) edgeCount += adopted[i]
  const out = f32(3 * n)
  for (let i = 0; i < n; i++) {
    const o = 3 * grid.ids[i]
    out[o] = sortedOut[3 * i]
    out[o + 1] = sortedOut[3 * i + 1]
    out[o + 2] = sortedOut[3 * i + 2]
  }
  const orientation = orientNormals(points, out, grid, radius)
  ctx.progress(1)
  return { points: { ...makePoints({ ...points, normals: out }), normals: out }, sigma, spacing, radius, edgeShare: n ? edgeCount / n : 0, orientation }
}

/** Median residual of local planes at a sample of places: the noise of the pass, mm. */
export function sampleSigma(grid: RowGrid, radius: number, sample = 2000): number {
  const n = grid.ids.length
  const plane = newLocalPlane()
  const runs = runsFor(grid, radius)
  const values: number[] = []
  for (let i = 0; i < n; i += Math.max(1, Math.floor(n / sample))) {
    localPlane(grid, grid.xyz[3 * i], grid.xyz[3 * i + 1], grid.xyz[3 * i + 2], radius, runs, plane)
    if (plane.count >= 6) values.push(plane.sigma)
  }
  return values.length ? median(values) : 0
}
