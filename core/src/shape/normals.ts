import { f32, u8 } from '../base/arrays.ts'
import { checkCancelled, defineKernel, subProgress, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { bytesAt, floatsAt, loadRows, machine, put, putApart, resident, room, useRows } from '../simd/machine.ts'
import { buildRowGrid, type RowGrid } from '../space/rowgrid.ts'
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
  useRows(a.grid, a.radius)
  const n = end - start
  const normals = room(12 * n)
  const sigmas = room(4 * n)
  machine().planes(start, end, a.radius, normals, sigmas)
  a.normals.set(floatsAt(normals, 3 * n), 3 * start)
  a.sigmas.set(floatsAt(sigmas, n), start)
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
  const [nx, ny, nz, sigmas] = resident(a, () => {
    loadRows(a.grid, 1.5 * a.radius)
    return [...putApart(a.normals), put(a.sigmas)]
  })
  const n = end - start
  const out = room(12 * n)
  const adopted = room(n)
  machine().edges(start, end, a.radius, a.sigma, EDGE_LIMIT, nx, ny, nz, sigmas, out, adopted)
  a.out.set(floatsAt(out, 3 * n), 3 * start)
  a.adopted.set(bytesAt(adopted, n), start)
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
  // points without any noise still lie on a lattice of single precision, and on rounds that are not planes
  const floor = Math.max(sigma, 0.01 * spacing)
  await ctx.parallel.map(edges, { grid, radius, sigma: floor, normals, sigmas, out: sortedOut, adopted }, n, chunk, ctx, (d) => second.progress(d))
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
  const values: number[] = []
  for (let i = 0; i < n; i += Math.max(1, Math.floor(n / sample))) {
    localPlane(grid, grid.xyz[3 * i], grid.xyz[3 * i + 1], grid.xyz[3 * i + 2], radius, plane)
    if (plane.count >= 6) values.push(plane.sigma)
  }
  return values.length ? median(values) : 0
}
