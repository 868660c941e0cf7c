import { unionFind } from '../base/unionfind.ts'
import { f32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { transformArray, transformPoint } from '../base/mat4.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { makeMesh, keepTriangles, triangleAreas, triangleCount, type Mesh } from '../shape/mesh.ts'
import { estimateNormals } from '../shape/normals.ts'
import type { Placed, Points } from '../shape/points.ts'
import { oppositeSides, splitPinchedVertices } from '../shape/topology.ts'
import { closeGaps } from '../repair/gaps.ts'
import { buildRowGrid } from '../space/rowgrid.ts'
import { clusterPoints } from './cluster.ts'
import { crispEdges } from './crisp.ts'
import { closeSurface, type Closing } from './close.ts'
import { fieldKernel, type FieldSource } from './field.ts'
import { blockCount, markBand, newLattice } from './lattice.ts'
import { extractSurface } from './marching.ts'

export interface MergeOptions {
  /** lattice cell, mm; default 1.1 point spacings, and at least `least` */
  cell?: number
  /** a cell that is chosen here is never finer than this, mm: how well the passes agree */
  least?: number
  /** radius over which points are averaged on flat ground, mm; default 2.8 cells, at least 3 spacings */
  radius?: number
  /** leave open, close gaps up to `gapSize`, or close everything */
  closing?: Closing
  /** largest gap closed with 'small', mm across */
  gapSize?: number
  /** put edges back that the lattice cut off (crisp.ts); default true */
  crisp?: boolean
  /** loose pieces smaller than this share of the whole area are dropped */
  crumbShare?: number
}

export interface MergeResult {
  mesh: Mesh
  cell: number
  spacing: number
  noise: number
  radius: number
  points: number
  crumbs: number
  /** length of the edges made crisp, mm */
  crispLength: number
  /** gaps narrower than three cells that were closed, and flagged */
  pinholes: number
  /** outside was guessed for so many passes */
  guessedPasses: number
}

/**
 * Gaps up to so many cells across are closed, and flagged not measured, in an open merge too: points lie all around them within the radius
 * of the average, and chance alone has left them open. Measured on the bracket: 165 of its 200 borders.
 */
const PINHOLE = 3
/** Cells below this share of the point spacing leave gaps between the bands around the points. */
const FINEST = 0.4
/** 2 KiB each, in the field alone */
const MOST_BLOCKS = 1_000_000

/**
 * One mesh out of all passes, at a chosen cell size: an implicit moving-least-squares field on a sparse lattice
 * (see field.ts), its zero surface by marching cubes (marching.ts), gaps left open or closed by winding numbers
 * (close.ts). Normals point outwards. The passes are not changed.
 *
 * Measured on the eight-pass bracket (0.03 mm noise, 0.3 mm cells): see docs/benchmarks.md.
 * Tried: range-image fusion with nearest pixels (Curless and Levoy 1996), rms 0.067 mm; n_i alone instead of the
 * symmetric form, 0.03 mm off in an 11 mm bore.
 * Throws OakError 'nothing-to-merge' without points, 'cell-below-spacing' when they are too sparse for the cell, 'cell-too-small' when the
 * lattice would outgrow memory.
 */
export async function mergePasses(passes: Placed<Points>[], options: MergeOptions, ctx: RunContext): Promise<MergeResult> {
  const total = passes.reduce((s, p) => s + p.data.xyz.length / 3, 0)
  if (total === 0) throw new OakError('nothing-to-merge', 'There are no points to merge.', { remedy: 'Bring in a pass first.' })
  const { field, cell, spacing, noise, guessedPasses } = await gatherSource(passes, options, ctx)
  checkCancelled(ctx)
  if (cell < FINEST * spacing)
    throw new OakError(
      'cell-below-spacing',
      `A cell of ${cell.toPrecision(2)} mm is much finer than the points, which lie ${spacing.toPrecision(2)} mm apart.`,
      {
        remedy: `The surface would fall to pieces: choose at least ${(FINEST * spacing).toPrecision(2)} mm.`,
      },
    )
  ctx.progress(0.45, 'lattice')
  const lattice = newLattice(field.grid.xyz, cell)
  markBand(lattice, field.grid.xyz)
  const blocks = blockCount(lattice)
  if (blocks > MOST_BLOCKS)
    throw new OakError('cell-too-small', `A cell of ${cell.toFixed(3)} mm would need ${Math.round(blocks / 1e6)} million blocks of memory.`, {
      remedy: 'Choose a coarser cell, or trim the passes first.',
    })
  const values = f32(512 * blocks)
  const forField = subProgress(ctx, 0.45, 0.8, 'distance field')
  await ctx.parallel.map(
    fieldKernel,
    { ...field, origin: lattice.origin, blocks: Int32Array.from(lattice.blocks), rows: lattice.rows, values },
    blocks,
    256,
    ctx,
    (d) => forField.progress(d),
  )
  ctx.progress(0.8, 'surface')
  const open = extractSurface(lattice, values)
  if (open.triangles.length === 0)
    throw new OakError('nothing-to-merge', 'No surface could be formed: the points are too sparse for this cell size.', {
      remedy: `Choose a cell of at least ${(1.5 * spacing).toPrecision(2)} mm.`,
    })
  // before the pieces are told apart: what hangs on by a point is a piece of its own
  const surface = makeMesh({ vertices: open.vertices, triangles: open.triangles })
  const sides = oppositeSides(surface)
  let mesh = splitPinchedVertices(surface, sides)
  checkCancelled(ctx)
  const crumbShare = options.crumbShare ?? 0.001
  let pinholes = 0
  let crumbs: number
  if (options.closing && options.closing !== 'open') {
    const large = dropCrumbs(mesh, crumbShare)
    crumbs = large.dropped
    const closing = subProgress(ctx, 0.85, 0.98, 'closing')
    mesh = splitPinchedVertices(await closeSurface(lattice, values, large.mesh, options.closing, options.gapSize ?? 5, closing))
  } else {
    const whole = closeGaps(mesh, { size: PINHOLE * cell }, { ...ctx, progress: () => undefined }, sides)
    pinholes = whole.closed
    const large = dropCrumbs(whole.mesh, crumbShare)
    crumbs = large.dropped
    mesh = large.mesh
  }
  const crisp = (options.crisp ?? true) ? await crispEdges(mesh, field, ctx) : { mesh, length: 0 }
  ctx.progress(1)
  return {
    mesh: crisp.mesh,
    crispLength: crisp.length,
    cell,
    spacing,
    noise,
    radius: field.radius,
    points: total,
    crumbs,
    pinholes,
    guessedPasses,
  }
}

/** All points in job coordinates with normals and weights, clustered and sorted for search. */
async function gatherSource(passes: Placed<Points>[], options: MergeOptions, ctx: RunContext) {
  const total = passes.reduce((s, p) => s + p.data.xyz.length / 3, 0)
  const xyz = f32(3 * total)
  const normals = f32(3 * total)
  const weights = f32(total)
  const noises: number[] = []
  const spacings: number[] = []
  let guessedPasses = 0
  let at = 0
  for (let k = 0; k < passes.length; k++) {
    const { data, pose } = passes[k]
    const n = data.xyz.length / 3
    const own = await estimateNormals(data, {}, subProgress(ctx, (0.4 * k) / passes.length, (0.4 * (k + 1)) / passes.length, 'normals'))
    if (own.orientation === 'guessed') guessedPasses++
    noises.push(own.sigma)
    spacings.push(own.spacing)
    transformArray(pose, data.xyz, xyz.subarray(3 * at, 3 * (at + n)))
    transformArray(pose, own.points.normals, normals.subarray(3 * at, 3 * (at + n)), true)
    const eye = data.viewpoint && transformPoint(pose, data.viewpoint[0], data.viewpoint[1], data.viewpoint[2])
    for (let i = at; i < at + n; i++) {
      if (!eye) {
        weights[i] = 1
        continue
      }
      const x = eye[0] - xyz[3 * i]
      const y = eye[1] - xyz[3 * i + 1]
      const z = eye[2] - xyz[3 * i + 2]
      const c = (x * normals[3 * i] + y * normals[3 * i + 1] + z * normals[3 * i + 2]) / Math.sqrt(x * x + y * y + z * z)
      // full weight up to 60 degrees of slant, then falling (Curless and Levoy 1996 weigh by incidence)
      // a point in the eye itself, as scanners write what they did not see, has no direction
      weights[i] = c > 0.5 ? 1 : c > 0.01 ? 2 * c : 0.02
    }
    at += n
    checkCancelled(ctx)
  }
  ctx.progress(0.4, 'search structure')
  const spacing = median(spacings)
  const cell = options.cell ?? Math.max(1.1 * spacing, options.least ?? 0)
  const radius = options.radius ?? Math.max(2.8 * cell, 3.1 * spacing)
  const clusters = clusterPoints(xyz, normals, weights, 0.8 * cell)
  const n = clusters.count
  const grid = buildRowGrid(clusters.xyz, radius)
  const field: FieldSource = {
    grid,
    normals: f32(3 * n),
    weights: f32(n),
    counts: f32(n),
    radius,
    smallRadius: 0.7 * radius,
    cell,
    slack: Math.max(4 * median(noises), 0.25 * cell),
  }
  for (let i = 0; i < n; i++) {
    const id = grid.ids[i]
    for (let k = 0; k < 3; k++) field.normals[3 * i + k] = clusters.normals[3 * id + k]
    field.weights[i] = clusters.weights[id]
    field.counts[i] = clusters.counts[id]
  }
  return { field, cell, spacing, noise: median(noises), guessedPasses }
}

/** Loose pieces below a share of the whole area go: strays that happened to form a surface. The largest always stays. */
export function dropCrumbs(mesh: Mesh, share: number): { mesh: Mesh; dropped: number } {
  const t = mesh.triangles
  // pieces by shared vertices: quicker than by shared edges
  const { find, join } = unionFind(mesh.vertices.length / 3)
  for (let i = 0; i < t.length; i += 3) {
    join(t[i], t[i + 1])
    join(t[i], t[i + 2])
  }
  const area = new Float64Array(mesh.vertices.length / 3)
  let sum = 0
  triangleAreas(mesh).forEach((a, i) => {
    area[find(t[3 * i])] += a
    sum += a
  })
  let largest = 0
  for (let i = 0; i < area.length; i++) if (area[i] > area[largest]) largest = i
  let dropped = 0
  for (let i = 0; i < area.length; i++) if (area[i] > 0 && area[i] < share * sum && i !== largest) dropped++
  if (!dropped) return { mesh, dropped }
  const keep = u8(triangleCount(mesh))
  for (let i = 0; i < keep.length; i++) {
    const c = find(t[3 * i])
    keep[i] = area[c] >= share * sum || c === largest ? 1 : 0
  }
  return { mesh: keepTriangles(mesh, keep), dropped }
}
