import { unionFind } from '../base/unionfind.ts'
import { u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import { makeMesh, keepTriangles, triangleArea, triangleCount, type Mesh } from '../shape/mesh.ts'
import type { Placed, Points } from '../shape/points.ts'
import { oppositeSides, splitPinchedVertices } from '../shape/topology.ts'
import { closeGaps } from '../repair/gaps.ts'
import { divide } from './bricks.ts'
import { ALL_BLOCKS, fieldAt, fieldOfBrick, tooSmall, wholeField, type BrickField, type Values } from './brickfield.ts'
import { crispEdges } from './crisp.ts'
import { closeSurface, type Closing } from './close.ts'
import type { FieldSource } from './field.ts'
import { blockCount, newLattice } from './lattice.ts'
import { surfaceBuilder } from './marching.ts'
import { mergeSource, type SourceOptions } from './source.ts'

export interface MergeOptions extends SourceOptions {
  /** leave open, close gaps up to `gapSize`, or close everything */
  closing?: Closing
  /** largest gap closed with 'small', mm across */
  gapSize?: number
  /** put edges back that the lattice cut off (crisp.ts); default true */
  crisp?: boolean
  /** loose pieces smaller than this share of the whole area are dropped */
  crumbShare?: number
  /** points that are worked on at a time, about: memory goes by it, the mesh does not; default 3 million */
  brick?: number
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
const BRICK = 3e6

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
  const source = await mergeSource(passes, options, subProgress(ctx, 0, 0.4))
  const { cell, spacing } = source
  if (cell < FINEST * spacing)
    throw new OakError(
      'cell-below-spacing',
      `A cell of ${cell.toPrecision(2)} mm is much finer than the points, which lie ${spacing.toPrecision(2)} mm apart.`,
      {
        remedy: `The surface would fall to pieces: choose at least ${(FINEST * spacing).toPrecision(2)} mm.`,
      },
    )
  const all = newLattice(source.box, cell)
  const bricks = divide(source, all, options.brick ?? BRICK)
  const closing = options.closing && options.closing !== 'open' ? options.closing : undefined
  const builder = surfaceBuilder()
  const parts: Values[] = []
  let kept: FieldSource | undefined
  let blocks = 0
  const start = (k: number) => {
    const part = subProgress(ctx, 0.4 + (0.4 * k) / bricks.length, 0.4 + (0.4 * (k + 1)) / bricks.length, 'distance field')
    const field = fieldOfBrick(source, all, bricks[k], bricks.length === 1, part)
    // what goes wrong is told when its turn comes
    field.catch(() => undefined)
    return field
  }
  let next = bricks.length ? start(0) : undefined
  for (let k = 0; next; k++) {
    const part: BrickField = await next
    checkCancelled(ctx)
    blocks += blockCount(part.lattice)
    if (blocks > ALL_BLOCKS) throw tooSmall(cell, blocks)
    // the threads are at the next field while the surface of this one is drawn
    next = k + 1 < bricks.length ? start(k + 1) : undefined
    builder.add(part.lattice, part.values, bricks[k])
    if (closing) parts.push({ lattice: part.lattice, values: part.values })
    if (bricks.length === 1) kept = part.field
  }
  ctx.progress(0.8, 'surface')
  let mesh = makeMesh(builder.done())
  if (mesh.triangles.length === 0)
    throw new OakError('nothing-to-merge', 'No surface could be formed: the points are too sparse for this cell size.', {
      remedy: `Choose a cell of at least ${(1.5 * spacing).toPrecision(2)} mm.`,
    })
  // before the pieces are told apart: what hangs on by a point is a piece of its own
  const sides = oppositeSides(mesh)
  mesh = splitPinchedVertices(mesh, sides, true)
  checkCancelled(ctx)
  const crumbShare = options.crumbShare ?? 0.001
  let pinholes = 0
  let crumbs: number
  if (closing) {
    const large = dropCrumbs(mesh, crumbShare)
    crumbs = large.dropped
    const { lattice, values } = wholeField(all, bricks, parts)
    const forClosing = subProgress(ctx, 0.85, 0.98, 'closing')
    mesh = splitPinchedVertices(await closeSurface(lattice, values, large.mesh, closing, options.gapSize ?? 5, forClosing))
  } else {
    const whole = closeGaps(mesh, { size: PINHOLE * cell }, { ...ctx, progress: () => undefined }, sides)
    pinholes = whole.closed
    const large = dropCrumbs(whole.mesh, crumbShare)
    crumbs = large.dropped
    mesh = large.mesh
  }
  let crispLength = 0
  if (options.crisp ?? true) {
    const at = await fieldAt(source, all, bricks, kept, mesh.vertices, ctx)
    // what is not needed any more need not be there beside what is made now
    source.passes.length = 0
    const crisp = crispEdges(mesh, at, cell)
    crispLength = crisp.length
    mesh = crisp.mesh
  }
  ctx.progress(1)
  const { noise, radius, guessedPasses } = source
  return { mesh, crispLength, cell, spacing, noise, radius, points: total, crumbs, pinholes, guessedPasses }
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
  for (let i = 0; i < t.length; i += 3) {
    const a = triangleArea(mesh, i / 3)
    area[find(t[i])] += a
    sum += a
  }
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
