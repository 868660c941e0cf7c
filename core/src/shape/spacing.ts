import { boxDiagonal, coreBox } from './points.ts'
import { lot } from '../base/random.ts'
import { median } from '../base/stats.ts'
import { rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { buildKdTree, nearestK } from '../space/kdtree.ts'

/**
 * Typical distance between neighbouring points (mm): the median distance to the third-nearest neighbour over a
 * sample. The third, since strays and doubled points spoil the first, and on a square raster of pitch p it is p.
 * At most `sample` places are looked at. 0 for fewer than 4 points.
 */
export function pointSpacing(xyz: Float32Array, sample = 2000): number {
  const n = xyz.length / 3
  if (n < 4) return 0
  // a compact part of the cloud suffices, and a tree over all of a large cloud would be wasteful
  const tree = buildKdTree(n > 60_000 ? denseSample(xyz) : xyz)
  const m = tree.ids.length
  const found = new Int32Array(4)
  const d2 = new Float64Array(4)
  const values: number[] = []
  const step = Math.max(1, Math.floor(m / sample))
  for (let i = 0; i < m; i += step) {
    const k = nearestK(tree, tree.xyz[3 * i], tree.xyz[3 * i + 1], tree.xyz[3 * i + 2], 4, found, d2)
    if (k === 4 && d2[3] > 0) values.push(Math.sqrt(d2[3]))
  }
  return values.length ? median(values) : 0
}

/**
 * The same, exactly: third-nearest neighbours in the whole cloud of some points that are drawn by lot, so that it does not matter how the cloud lies and hardly which other points
 * there are. 0 when too few have three neighbours within ten rows.
 */
export function spacingIn(grid: RowGrid, sample = 500): number {
  const n = grid.ids.length
  const share = sample / n
  const widest = 10 * grid.cell
  const runs = runsFor(grid, widest)
  const values: number[] = []
  for (let i = 0; i < n; i++) {
    if (lot(grid.ids[i], SPACING) >= share) continue
    const x = grid.xyz[3 * i]
    const y = grid.xyz[3 * i + 1]
    const z = grid.xyz[3 * i + 2]
    for (let r = 0.5 * grid.cell; r <= widest; r *= 2) {
      // the three smallest distances within r
      let [a, b, c] = [r * r, r * r, r * r]
      let found = 0
      const m = rowRuns(grid, x, y, z, r, runs)
      for (let k = 0; k < m; k++)
        for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
          if (j === i) continue
          const d = (grid.xyz[3 * j] - x) ** 2 + (grid.xyz[3 * j + 1] - y) ** 2 + (grid.xyz[3 * j + 2] - z) ** 2
          if (d >= c) continue
          found++
          if (d < a) [a, b, c] = [d, a, b]
          else if (d < b) [b, c] = [d, b]
          else c = d
        }
      if (found < 3) continue
      if (c > 0) values.push(Math.sqrt(c))
      break
    }
  }
  return values.length >= Math.min(20, n / 2) ? median(values) : 0
}

/** salt of the lots, so that other choices draw others */
const SPACING = 11

/** Full-density pieces of a large cloud: all points of some evenly chosen slabs. */
function denseSample(xyz: Float32Array): Float32Array {
  const n = xyz.length / 3
  const box = coreBox(xyz)
  const axis = box[3] - box[0] >= box[4] - box[1] && box[3] - box[0] >= box[5] - box[2] ? 0 : box[4] - box[1] >= box[5] - box[2] ? 1 : 2
  const slab = boxDiagonal(box) / 64
  const stride = Math.max(2, Math.round(n / 30_000))
  const out: number[] = []
  for (let i = 0; i < n && out.length < 1_200_000; i++)
    if (Math.floor((xyz[3 * i + axis] - box[axis]) / slab) % stride === 0) out.push(xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2])
  return Float32Array.from(out)
}
