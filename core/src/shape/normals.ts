import { f32, u8 } from '../base/arrays.ts'
import { checkCancelled, defineKernel, subProgress, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { bytesAt, floatsAt, loadRows, machine, put, putApart, resident, room, useRows } from '../simd/machine.ts'
import { buildRowGrid, type RowGrid } from '../space/rowgrid.ts'
import { localPlane, newLocalPlane } from './localplane.ts'
import { orientNormals } from './orient.ts'
import { makePoints, type Points } from './points.ts'
import { slabs } from './slabs.ts'
import { pointSpacing } from './spacing.ts'

export interface NormalOptions {
  /** Radius of the local plane, mm. Default: 4 point spacings. */
  radius?: number
  /** Keep normals that came with the points. Default true. */
  keepGiven?: boolean
  /** Points that are worked on at a time: memory goes by it, the normals do not. Default 4 million. */
  slab?: number
}

const SLAB = 4e6

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
  /** of guessed ones: the piece of each point, whose side was guessed as one */
  pieces: Int32Array | null
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
    const noises: number[] = []
    for (const slab of slabs(points.xyz, options.slab ?? SLAB, radius)) noises.push(sampleSigma(buildRowGrid(slab.xyz, radius), radius))
    const sigma = median(noises)
    return { points: points as Points & { normals: Float32Array }, sigma, spacing, radius, edgeShare: 0, orientation: 'given', pieces: null }
  }
  const first = await planesOf(points.xyz, radius, options.slab ?? SLAB, subProgress(ctx, 0, 0.7, 'normals'))
  const { sigmas } = first
  const finite: number[] = []
  for (let i = 0; i < n; i += Math.max(1, Math.floor(n / 20000))) if (sigmas[i] < Infinity) finite.push(sigmas[i])
  const sigma = finite.length ? median(finite) : 0
  checkCancelled(ctx)
  // points without any noise still lie on a lattice of single precision, and on rounds that are not planes
  const floor = Math.max(sigma, 0.01 * spacing)
  const { normals, adopted } = await besideEdges(points.xyz, first, radius, floor, options.slab ?? SLAB, subProgress(ctx, 0.7, 0.95, 'edges'))
  const pieces = orientNormals(points, normals, first.grid, radius)
  ctx.progress(1)
  return {
    points: { ...makePoints({ ...points, normals }), normals },
    sigma,
    spacing,
    radius,
    edgeShare: n ? adopted / n : 0,
    orientation: pieces ? 'guessed' : 'viewpoint',
    pieces,
  }
}

/** Local planes, in the order of the points. */
interface FirstPlanes {
  normals: Float32Array
  sigmas: Float32Array
  /** of all points, where they were few enough for one */
  grid: RowGrid | null
}

const CHUNK = 8192

async function planesOf(xyz: Float32Array, radius: number, most: number, ctx: RunContext): Promise<FirstPlanes> {
  const n = xyz.length / 3
  const out: FirstPlanes = { normals: f32(3 * n), sigmas: f32(n), grid: null }
  let done = 0
  for (const slab of slabs(xyz, most, radius)) {
    const m = slab.xyz.length / 3
    const grid = buildRowGrid(slab.xyz, radius)
    const normals = f32(3 * m)
    const sigmas = f32(m)
    const part = subProgress(ctx, done / n, (done + slab.own) / n)
    await ctx.parallel.map(planes, { grid, radius, normals, sigmas }, m, CHUNK, ctx, (d) => part.progress(d))
    for (let k = 0; k < m; k++) {
      const i = grid.ids[k]
      if (i >= slab.own) continue
      const id = slab.ids ? slab.ids[i] : i
      out.sigmas[id] = sigmas[k]
      out.normals[3 * id] = normals[3 * k]
      out.normals[3 * id + 1] = normals[3 * k + 1]
      out.normals[3 * id + 2] = normals[3 * k + 2]
    }
    done += slab.own
    if (!slab.ids) out.grid = grid
  }
  return out
}

async function besideEdges(xyz: Float32Array, first: FirstPlanes, radius: number, sigma: number, most: number, ctx: RunContext) {
  const n = xyz.length / 3
  const out = f32(3 * n)
  let done = 0
  let adopted = 0
  for (const slab of slabs(xyz, most, 1.5 * radius)) {
    const m = slab.xyz.length / 3
    const grid = first.grid ?? buildRowGrid(slab.xyz, radius)
    const args: EdgeArgs = { grid, radius, sigma, normals: f32(3 * m), sigmas: f32(m), out: f32(3 * m), adopted: u8(m) }
    const ids = slab.ids ? grid.ids.map((i) => (slab.ids as Uint32Array)[i]) : grid.ids
    const { normals, sigmas } = args
    for (let k = 0; k < m; k++) {
      const id = ids[k]
      sigmas[k] = first.sigmas[id]
      normals[3 * k] = first.normals[3 * id]
      normals[3 * k + 1] = first.normals[3 * id + 1]
      normals[3 * k + 2] = first.normals[3 * id + 2]
    }
    const part = subProgress(ctx, done / n, (done + slab.own) / n)
    await ctx.parallel.map(edges, args, m, CHUNK, ctx, (d) => part.progress(d))
    for (let k = 0; k < m; k++) {
      if (grid.ids[k] >= slab.own) continue
      const id = ids[k]
      adopted += args.adopted[k]
      out[3 * id] = args.out[3 * k]
      out[3 * id + 1] = args.out[3 * k + 1]
      out[3 * id + 2] = args.out[3 * k + 2]
    }
    done += slab.own
  }
  return { normals: out, adopted }
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
