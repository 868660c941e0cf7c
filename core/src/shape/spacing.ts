import { boxDiagonal, coreBox } from './points.ts'
import { median } from '../base/stats.ts'
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
