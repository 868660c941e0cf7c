import { f32, GrowU32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import { boxOf, within, type Brick } from './bricks.ts'
import { fieldKernel, surfaceKernel, type FieldSource } from './field.ts'
import { blockCount, markBand, newLattice, touchBlock, type Lattice } from './lattice.ts'
import { fieldIn, type MergeSource } from './source.ts'

/** 2 KiB each, in the field alone: of a brick, and of all of them, which are some hundred triangles each in the end. */
const MOST_BLOCKS = 1_000_000
export const ALL_BLOCKS = 4_000_000
/** Points of a brick from which on it tells what the others will need. */
const TELLING = 1e6

export const tooSmall = (cell: number, blocks: number) =>
  new OakError('cell-too-small', `A cell of ${cell.toFixed(3)} mm would need ${(blocks / 1e6).toPrecision(2)} million blocks of memory.`, {
    remedy: 'Choose a coarser cell, or trim the passes first.',
  })

/** Values of the distance field on the nodes of a lattice, 512 a block. */
export interface Values {
  lattice: Lattice
  values: Float32Array
}

/** The distance field in a brick, and the clusters that it is made of. */
export interface BrickField extends Values {
  field: FieldSource
}

/** Throws OakError 'cell-too-small' when the lattice would outgrow memory. */
export async function fieldOfBrick(source: MergeSource, all: Lattice, brick: Brick, whole: boolean, ctx: RunContext): Promise<BrickField> {
  const field = fieldIn(source, boxOf(brick, all), brick.points)
  const band = newLattice(source.box, all.cell)
  markBand(band, field.grid.xyz)
  const lattice = whole ? band : within(band, brick)
  const blocks = blockCount(lattice)
  // what comes of all of it, as far as a part that is large enough shows
  const expected = brick.points > TELLING ? (blocks * source.points) / brick.points : blocks
  if (blocks > MOST_BLOCKS || expected > ALL_BLOCKS) throw tooSmall(all.cell, Math.max(blocks, expected))
  const values = f32(512 * blocks)
  await ctx.parallel.map(
    fieldKernel,
    { ...field, origin: lattice.origin, blocks: Int32Array.from(lattice.blocks), rows: lattice.rows, values },
    blocks,
    256,
    ctx,
    (d) => ctx.progress(d),
  )
  return { field, lattice, values }
}

/** Field and normal (4 a place) at places on the surface, brick by brick; NaN where there is none. */
export async function fieldAt(
  source: MergeSource,
  all: Lattice,
  bricks: Brick[],
  kept: FieldSource | undefined,
  xyz: Float32Array,
  ctx: RunContext,
): Promise<Float32Array> {
  const n = xyz.length / 3
  const out = f32(4 * n)
  if (kept) {
    await ctx.parallel.map(surfaceKernel, { ...kept, xyz, out }, n, 16384, ctx)
    return out
  }
  out.fill(NaN)
  const side = 8 * all.cell
  for (const brick of bricks) {
    checkCancelled(ctx)
    const list = new GrowU32()
    for (let i = 0; i < n; i++) {
      let inside = true
      for (let k = 0; k < 3 && inside; k++) {
        const b = Math.floor((xyz[3 * i + k] - all.origin[k]) / side)
        inside = b >= brick.low[k] && b < brick.high[k]
      }
      if (inside) list.push(i)
    }
    const own = list.done()
    if (!own.length) continue
    const places = f32(3 * own.length)
    for (let i = 0; i < places.length; i++) places[i] = xyz[3 * own[(i / 3) | 0] + (i % 3)]
    const found = f32(4 * own.length)
    await ctx.parallel.map(surfaceKernel, { ...fieldIn(source, boxOf(brick, all), brick.points), xyz: places, out: found }, own.length, 16384, ctx)
    for (let i = 0; i < found.length; i++) out[4 * own[i >> 2] + (i & 3)] = found[i]
  }
  return out
}

/** The bricks' own blocks as one lattice with its values. */
export function wholeField(all: Lattice, bricks: Brick[], parts: Values[]): Values {
  if (parts.length === 1) return parts[0]
  const own = parts.map(({ lattice: l }, i) => {
    const { high } = bricks[i]
    return [...l.map.values()].filter((b) => [0, 1, 2].every((k) => l.blocks[3 * b + k] < high[k]))
  })
  const values = f32(512 * own.reduce((s, o) => s + o.length, 0))
  parts.forEach(({ lattice: l, values: v }, i) => {
    for (const b of own[i]) values.set(v.subarray(512 * b, 512 * (b + 1)), 512 * touchBlock(all, l.blocks[3 * b], l.blocks[3 * b + 1], l.blocks[3 * b + 2]))
  })
  return { lattice: all, values }
}
