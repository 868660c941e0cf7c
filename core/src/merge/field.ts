import { defineKernel } from '../base/run.ts'
import { floatsAt, loadRows, machine, put, putApart, resident, room } from '../simd/machine.ts'
import type { RowGrid } from '../space/rowgrid.ts'

/** Points of all passes in job coordinates, sorted, with normals and weights in the same order. */
export interface FieldSource {
  grid: RowGrid
  normals: Float32Array
  weights: Float32Array
  /** measured points behind each entry */
  counts: Float32Array
  cell: number
  /** how far the nearest point may lie off the averaged surface, mm */
  slack: number
  /** radius on flat ground and the least radius, at edges and in bores, mm */
  radius: number
  smallRadius: number
}

interface FieldArgs extends FieldSource {
  origin: readonly [number, number, number]
  blocks: Int32Array
  rows: Uint8Array
  /** 512 a block, mm outside the material; NaN where nothing was measured */
  values: Float32Array
}

/** Largest distance of the support's centre beside the place, as a share of the radius; a straight border gives 0.3. */
const BORDER = 0.34
/** coherence of the normals (1: parallel) from which on the small radius counts alone, and the large one */
const COHERENT_LOW = 0.99
const COHERENT_HIGH = 0.998

/**
 * Distance field of the measured surface on the nodes of blocks: symmetric implicit moving least squares,
 * f = 1/2 sum w (n_i + n).(x - p_i) / sum w  (Kolluri 2008; the symmetric form cancels the curvature bias that n_i alone
 * or n alone has with opposite signs). Points whose normal differs from the nearest point's take less part, which keeps
 * edges (after Oztireli 2009). The radius is the large one where the normals agree, the small one where they do not.
 * NaN where fewer than 4 measured points support the place, all of them lie to one side (beyond the border of what was
 * measured), or no cell that the surface crosses can have a corner there.
 * The sums run in core/simd/field.ts; the same in JavaScript took four times as long.
 */
export const fieldKernel = defineKernel('merge.field', (a: FieldArgs, start: number, end: number) => {
  useField(a)
  const n = end - start
  const values = room(2048 * n)
  machine().field(n, put(a.blocks.subarray(3 * start, 3 * end)), put(a.rows.subarray(64 * start, 64 * end)), values, ...a.origin)
  a.values.set(floatsAt(values, 512 * n), 512 * start)
})

interface SurfaceArgs extends FieldSource {
  /** 3 a place */
  xyz: Float32Array
  /** 4 a place: field and unit normal; the field is NaN where nothing was measured */
  out: Float32Array
}

/** The field and its normal at any places near the surface. */
export const surfaceKernel = defineKernel('merge.surface', (a: SurfaceArgs, start: number, end: number) => {
  useField(a)
  const n = end - start
  const out = room(16 * n)
  machine().surfaceAt(n, put(a.xyz.subarray(3 * start, 3 * end)), out)
  a.out.set(floatsAt(out, 4 * n), 4 * start)
})

function useField(a: FieldSource): void {
  resident(a, () => {
    loadRows(a.grid, a.radius)
    const [nx, ny, nz] = putApart(a.normals)
    machine().setField(nx, ny, nz, put(a.weights), put(a.counts), a.cell, a.slack, a.radius, a.smallRadius, BORDER, COHERENT_LOW, COHERENT_HIGH)
  })
}
