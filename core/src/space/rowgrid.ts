import { f32, u32 } from '../base/arrays.ts'
import { coreBox } from '../shape/points.ts'

/**
 * Fixed-radius search over points. The points are sorted into rows that run along x, one row for each cell of a
 * grid over y and z, and by x inside a row. A ball then meets few rows, and in each of them one run of
 * consecutive points found by bisection: memory streams, and no cell along x is ever visited in vain.
 * Measured against cells of r/2 in all three directions: a tenth of the memory on a part that is mostly air,
 * and as fast.
 * Plain typed arrays, so that it passes to other threads as it is.
 */
export interface RowGrid {
  readonly cell: number
  readonly oy: number
  readonly oz: number
  readonly ny: number
  readonly nz: number
  /** rows + 1 */
  readonly start: Uint32Array
  /** 3N, in row order */
  readonly xyz: Float32Array
  /** N: place of each sorted point in the input */
  readonly ids: Uint32Array
}

const MAX_ROWS = 1 << 24

/**
 * cell: row width in mm; the usual search radius is best (measured against 0.4 and 0.7 of it). through: y and z of a place where rows begin, so that parts of a
 * whole have the rows of the whole. Throws RangeError when the width is not positive.
 */
export function buildRowGrid(xyz: Float32Array, cell: number, through?: readonly [number, number]): RowGrid {
  if (!(cell > 0)) throw new RangeError(`row width ${cell}`)
  const n = xyz.length / 3
  // a few far strays must not make a giant grid: they go to the rows at its border, and to the ends of the classes
  const box = n ? coreBox(xyz) : new Float64Array(6)
  if (through) for (const k of [1, 2]) box[k] = through[k - 1] + cell * Math.floor((box[k] - through[k - 1]) / cell)
  while ((Math.floor((box[4] - box[1]) / cell) + 1) * (Math.floor((box[5] - box[2]) / cell) + 1) > MAX_ROWS) cell *= 2
  const ny = Math.floor((box[4] - box[1]) / cell) + 1
  const nz = Math.floor((box[5] - box[2]) / cell) + 1
  const oy = box[1]
  const oz = box[2]
  const inv = 1 / cell
  // least significant first: by x in 65536 classes, then stably by row, then exactly by x within the row
  const bx = box[0]
  const sx = box[3] > bx ? 65535 / (box[3] - bx) : 0
  const byX = new Uint32Array(n)
  const count = new Uint32Array(65537)
  const classOf = (i: number) => {
    const c = ((xyz[3 * i] - bx) * sx) | 0
    return c < 0 || xyz[3 * i] < bx ? 0 : c > 65535 || xyz[3 * i] > box[3] ? 65535 : c
  }
  for (let i = 0; i < n; i++) count[classOf(i) + 1]++
  for (let k = 0; k < 65536; k++) count[k + 1] += count[k]
  for (let i = 0; i < n; i++) byX[count[classOf(i)]++] = i
  const rows = ny * nz
  const start = u32(rows + 1)
  const row = new Uint32Array(n)
  for (let i = 0; i < n; i++) {
    const r = rowOf(xyz[3 * i + 2], oz, inv, nz) * ny + rowOf(xyz[3 * i + 1], oy, inv, ny)
    row[i] = r
    start[r + 1]++
  }
  for (let r = 0; r < rows; r++) start[r + 1] += start[r]
  const fill = start.slice(0, rows)
  const ids = u32(n)
  for (let k = 0; k < n; k++) {
    const i = byX[k]
    ids[fill[row[i]]++] = i
  }
  for (let r = 0; r < rows; r++)
    for (let k = start[r] + 1; k < start[r + 1]; k++) {
      const id = ids[k]
      const x = xyz[3 * id]
      let j = k - 1
      while (j >= start[r] && xyz[3 * ids[j]] > x) {
        ids[j + 1] = ids[j]
        j--
      }
      ids[j + 1] = id
    }
  const sorted = f32(3 * n)
  for (let k = 0; k < n; k++) {
    const i = 3 * ids[k]
    sorted[3 * k] = xyz[i]
    sorted[3 * k + 1] = xyz[i + 1]
    sorted[3 * k + 2] = xyz[i + 2]
  }
  return { cell, oy, oz, ny, nz, start, xyz: sorted, ids }
}

function rowOf(v: number, origin: number, inv: number, rows: number): number {
  const r = Math.floor((v - origin) * inv)
  return r > 0 ? Math.min(rows - 1, r) : 0
}

/**
 * Runs of sorted points that may lie within r of (x, y, z): runs[2k] .. runs[2k + 1) for k below the returned count.
 * With `span` the runs serve all places from x to x + span.
 * The caller still compares distances. `runs` comes from `runsFor`, for this grid and at least this radius.
 */
export function rowRuns(g: RowGrid, x: number, y: number, z: number, r: number, runs: Int32Array, span = 0): number {
  const { cell, ny, nz, start, xyz } = g
  const inv = 1 / cell
  const fy = y - g.oy
  const fz = z - g.oz
  // rows at the border hold what lies beyond it as well
  const y0 = rowOf(fy - r, 0, inv, ny)
  const y1 = rowOf(fy + r, 0, inv, ny)
  const z0 = rowOf(fz - r, 0, inv, nz)
  const z1 = rowOf(fz + r, 0, inv, nz)
  const r2 = r * r * 1.000001
  const wide = y1 - y0 + 1
  const cache = runs.length >> 1
  let n = 0
  for (let iz = z0; iz <= z1; iz++) {
    const za = iz * cell
    const dz = fz < za ? (iz > 0 ? za - fz : 0) : iz < nz - 1 && fz > za + cell ? fz - za - cell : 0
    for (let iy = y0; iy <= y1; iy++) {
      const row = iz * ny + iy
      let a = start[row]
      const end = start[row + 1]
      if (a === end) continue
      const ya = iy * cell
      const dy = fy < ya ? (iy > 0 ? ya - fy : 0) : iy < ny - 1 && fy > ya + cell ? fy - ya - cell : 0
      const h2 = r2 - dy * dy - dz * dz
      if (h2 <= 0) continue
      const h = Math.sqrt(h2)
      const lo = x - h
      const hi = x + span + h
      // queries mostly come in order: start where the last one in this row ended, bisect only when that is far
      const slot = cache + 2 * ((iz - z0) * wide + iy - y0)
      if (runs[slot] === row) {
        let c = runs[slot + 1]
        let steps = 24
        while (c > a && xyz[3 * c - 3] >= lo && --steps > 0) c--
        while (c < end && xyz[3 * c] < lo && --steps > 0) c++
        a = steps > 0 ? c : lowerBound(xyz, a, end, lo)
      } else {
        a = lowerBound(xyz, a, end, lo)
        runs[slot] = row
      }
      runs[slot + 1] = a
      let e = a
      while (e < end && xyz[3 * e] <= hi) {
        if (e - a < 48) e++
        else {
          e = lowerBound(xyz, e, end, hi)
          while (e < end && xyz[3 * e] <= hi) e++
          break
        }
      }
      if (e > a) {
        runs[2 * n] = a
        runs[2 * n + 1] = e
        n++
      }
    }
  }
  return n
}

function lowerBound(xyz: Float32Array, a: number, b: number, x: number): number {
  while (a < b) {
    const m = (a + b) >>> 1
    if (xyz[3 * m] < x) a = m + 1
    else b = m
  }
  return a
}

/** Room for the runs of a ball of radius r, and behind it what `rowRuns` remembers from query to query. */
export function runsFor(g: RowGrid, r: number): Int32Array {
  const w = Math.ceil((2 * r) / g.cell) + 2
  return new Int32Array(4 * w * w).fill(-1)
}

/** Nearest point within r: its place in the **sorted** order, or -1. d2[0] becomes the squared distance. */
export function nearestWithin(g: RowGrid, x: number, y: number, z: number, r: number, runs: Int32Array, d2: Float64Array): number {
  // most are near: small balls first, since a ball of twice the radius holds four times the points
  for (let near = NEAR * g.cell; near < 0.6 * r; near *= 2) {
    const at = nearestIn(g, x, y, z, near, runs, d2)
    if (at >= 0) return at
  }
  return nearestIn(g, x, y, z, r, runs, d2)
}

/** Share of a row's width that is searched first. */
const NEAR = 0.35

function nearestIn(g: RowGrid, x: number, y: number, z: number, r: number, runs: Int32Array, d2: Float64Array): number {
  const n = rowRuns(g, x, y, z, r, runs)
  const p = g.xyz
  let best = r * r
  let at = -1
  for (let k = 0; k < n; k++)
    for (let i = runs[2 * k]; i < runs[2 * k + 1]; i++) {
      const dx = p[3 * i] - x
      const dy = p[3 * i + 1] - y
      const dz = p[3 * i + 2] - z
      const d = dx * dx + dy * dy + dz * dz
      if (d <= best && (d < best || at < 0 || g.ids[i] < g.ids[at])) {
        best = d
        at = i
      }
    }
  d2[0] = best
  return at
}
