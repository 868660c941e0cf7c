import { f32 } from '../base/arrays.ts'
import { buildKdTree, type KdTree } from './kdtree.ts'

/** A kd-tree whose nodes know their boxes: what lies in a ball is counted node by node, not point by point. */
export interface CountTree {
  tree: KdTree
  /** least and greatest x y z of each node, leaves too */
  boxes: Float32Array
}

/** Over points n x 3, any unit. */
export function buildCountTree(xyz: Float32Array): CountTree {
  const tree = buildKdTree(xyz)
  const n = tree.ids.length
  const boxes = f32(6 * (2 ** (tree.depth + 1) - 1))
  const fill = (node: number, lo: number, hi: number, level: number): void => {
    const o = 6 * node
    boxes.fill(Infinity, o, o + 3).fill(-Infinity, o + 3, o + 6)
    for (let i = lo; i < hi; i++)
      for (let k = 0; k < 3; k++) {
        const v = tree.xyz[3 * i + k]
        if (v < boxes[o + k]) boxes[o + k] = v
        if (v > boxes[o + 3 + k]) boxes[o + 3 + k] = v
      }
    if (level === tree.depth) return
    const middle = (lo + hi + 1) >>> 1
    fill(2 * node + 1, lo, middle, level + 1)
    fill(2 * node + 2, middle, hi, level + 1)
  }
  fill(0, 0, n, 0)
  return { tree, boxes }
}

/** nodes that wait: at most one for each level, of three numbers */
const waiting = new Int32Array(3 * 40)

/** How many points lie nearer to a place than r. Of many that lie together, the time does not grow with their number. */
export function countWithin({ tree, boxes }: CountTree, x: number, y: number, z: number, r: number): number {
  const { depth, xyz, ids } = tree
  const rr = r * r
  const inner = 2 ** depth - 1
  let count = 0
  let top = 3
  waiting[0] = 0
  waiting[1] = 0
  waiting[2] = ids.length
  while (top > 0) {
    top -= 3
    const node = waiting[top]
    const lo = waiting[top + 1]
    const hi = waiting[top + 2]
    const o = 6 * node
    const [ax, bx] = [boxes[o] - x, boxes[o + 3] - x]
    const [ay, by] = [boxes[o + 1] - y, boxes[o + 4] - y]
    const [az, bz] = [boxes[o + 2] - z, boxes[o + 5] - z]
    // to the nearest place of the box, and to its furthest corner
    const nx = ax > 0 ? ax : bx < 0 ? bx : 0
    const ny = ay > 0 ? ay : by < 0 ? by : 0
    const nz = az > 0 ? az : bz < 0 ? bz : 0
    if (!(nx * nx + ny * ny + nz * nz < rr)) continue
    const fx = -ax > bx ? ax : bx
    const fy = -ay > by ? ay : by
    const fz = -az > bz ? az : bz
    if (fx * fx + fy * fy + fz * fz < rr) {
      count += hi - lo
      continue
    }
    if (node >= inner) {
      for (let i = lo; i < hi; i++) {
        const dx = xyz[3 * i] - x
        const dy = xyz[3 * i + 1] - y
        const dz = xyz[3 * i + 2] - z
        if (dx * dx + dy * dy + dz * dz < rr) count++
      }
      continue
    }
    const middle = (lo + hi + 1) >>> 1
    waiting[top] = 2 * node + 1
    waiting[top + 1] = lo
    waiting[top + 2] = middle
    waiting[top + 3] = 2 * node + 2
    waiting[top + 4] = middle
    waiting[top + 5] = hi
    top += 6
  }
  return count
}
