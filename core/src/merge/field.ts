import { defineKernel } from '../base/run.ts'
import { rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'

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

/**
 * Distance field of the measured surface at one place, given the runs of points around it: symmetric implicit moving least squares,
 * f = 1/2 sum w (n_i + n).(x - p_i) / sum w  (Kolluri 2008; the symmetric form cancels the curvature bias that n_i alone
 * or n alone has with opposite signs). Points whose normal differs from the nearest point's take less part, which keeps
 * edges (after Oztireli 2009). The radius is the large one where the normals agree, the small one where they do not.
 * NaN where fewer than 3 points support the place, or all of them lie to one side (beyond the border of what was measured).
 */
function fieldAt(s: FieldSource, x: number, y: number, z: number, runs: Int32Array, m: number): number {
  const { normals, weights } = s
  const p = s.grid.xyz
  const r = s.radius
  const r2 = r * r
  const lo = x - r
  const hi = x + r
  let best = r2
  let near = -1
  for (let k = 0; k < m; k++) {
    const end = runs[2 * k + 1]
    // places are asked for in order of x: what lies behind this one lies behind the next
    let i = runs[2 * k]
    while (i < end && p[3 * i] < lo) i++
    runs[2 * k] = i
    for (; i < end && p[3 * i] <= hi; i++) {
      const dx = x - p[3 * i]
      const dy = y - p[3 * i + 1]
      const dz = z - p[3 * i + 2]
      const d2 = dx * dx + dy * dy + dz * dz
      if (d2 < best) {
        best = d2
        near = i
      }
    }
  }
  if (near < 0) return NaN
  const q2 = s.smallRadius * s.smallRadius
  const ir2 = 1 / r2
  const iq2 = 1 / q2
  const ax = normals[3 * near]
  const ay = normals[3 * near + 1]
  const az = normals[3 * near + 2]
  // too far off to be the corner of a cell that the surface crosses: half of the band is done with here
  const off = Math.abs(ax * (x - p[3 * near]) + ay * (y - p[3 * near + 1]) + az * (z - p[3 * near + 2]))
  if (off > (Math.abs(ax) + Math.abs(ay) + Math.abs(az)) * 1.05 * s.cell + s.slack) return NaN
  // large radius
  let w0 = 0
  let f0 = 0
  let nx0 = 0
  let ny0 = 0
  let nz0 = 0
  let px0 = 0
  let py0 = 0
  let pz0 = 0
  // small radius
  let w1 = 0
  let f1 = 0
  let nx1 = 0
  let ny1 = 0
  let nz1 = 0
  let px1 = 0
  let py1 = 0
  let pz1 = 0
  let support = 0
  for (let k = 0; k < m; k++) {
    const end = runs[2 * k + 1]
    for (let i = runs[2 * k]; i < end && p[3 * i] <= hi; i++) {
      const o = 3 * i
      const dx = x - p[o]
      const dy = y - p[o + 1]
      const dz = z - p[o + 2]
      const d2 = dx * dx + dy * dy + dz * dz
      if (d2 >= r2) continue
      const nx = normals[o]
      const ny = normals[o + 1]
      const nz = normals[o + 2]
      const agree = nx * ax + ny * ay + nz * az
      if (agree < 0.4) continue
      const g = agree > 0.9 ? 1 : (agree - 0.4) * 2
      const wi = weights[i] * g * g
      const f = nx * dx + ny * dy + nz * dz
      const u = 1 - d2 * ir2
      let w = wi * u * u
      w0 += w
      f0 += w * f
      nx0 += w * nx
      ny0 += w * ny
      nz0 += w * nz
      px0 += w * dx
      py0 += w * dy
      pz0 += w * dz
      support += s.counts[i]
      if (d2 >= q2) continue
      const v = 1 - d2 * iq2
      w = wi * v * v
      w1 += w
      f1 += w * f
      nx1 += w * nx
      ny1 += w * ny
      nz1 += w * nz
      px1 += w * dx
      py1 += w * dy
      pz1 += w * dz
    }
  }
  if (support < 4 || w0 <= 0) return NaN
  const l0 = Math.sqrt(nx0 * nx0 + ny0 * ny0 + nz0 * nz0)
  const i0 = 1 / l0
  nx0 *= i0
  ny0 *= i0
  nz0 *= i0
  px0 /= w0
  py0 /= w0
  pz0 /= w0
  const h0 = nx0 * px0 + ny0 * py0 + nz0 * pz0
  // all support to one side: beyond the border
  const tx = px0 - h0 * nx0
  const ty = py0 - h0 * ny0
  const tz = pz0 - h0 * nz0
  if (tx * tx + ty * ty + tz * tz > BORDER * BORDER * r2) return NaN
  const value0 = 0.5 * (f0 / w0 + h0)
  // 1 for parallel normals
  const coherence = l0 / w0
  let t = (coherence - COHERENT_LOW) / (COHERENT_HIGH - COHERENT_LOW)
  t = t < 0 ? 0 : t > 1 ? 1 : t
  if (t >= 1 || w1 <= 0) return value0
  const i1 = 1 / Math.sqrt(nx1 * nx1 + ny1 * ny1 + nz1 * nz1)
  const h1 = ((nx1 * px1 + ny1 * py1 + nz1 * pz1) * i1) / w1
  const value1 = 0.5 * (f1 / w1 + h1)
  return t * value0 + (1 - t) * value1
}

/** Largest distance of the support's centre beside the place, as a share of the radius; a straight border gives 0.3. */
const BORDER = 0.34
const COHERENT_LOW = 0.99
const COHERENT_HIGH = 0.998

export const fieldKernel = defineKernel('merge.field', (a: FieldArgs, start: number, end: number) => {
  const runs = runsFor(a.grid, a.radius)
  const { blocks, rows, values, cell, origin } = a
  for (let b = start; b < end; b++) {
    const base = 512 * b
    for (let row = 0; row < 64; row++) {
      const bits = rows[64 * b + row]
      const y = origin[1] + cell * (8 * blocks[3 * b + 1] + (row & 7))
      const z = origin[2] + cell * (8 * blocks[3 * b + 2] + (row >> 3))
      const at = base + 8 * row
      values.fill(NaN, at, at + 8)
      if (!bits) continue
      const x0 = origin[0] + cell * 8 * blocks[3 * b]
      const m = rowRuns(a.grid, x0, y, z, a.radius, runs, 7 * cell)
      if (m === 0) continue
      for (let i = 0; i < 8; i++) if (bits & (1 << i)) values[at + i] = fieldAt(a, x0 + cell * i, y, z, runs, m)
    }
  }
})
