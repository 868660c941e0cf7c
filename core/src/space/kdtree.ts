import { f32, u32 } from '../base/arrays.ts'

/**
 * Static kd-tree (Bentley 1975) without pointers: node k has children 2k+1 and 2k+2, every leaf holds at most 8
 * points, points are permuted into leaf order. For k nearest or far neighbours; for a fixed radius RowGrid is faster.
 */
export interface KdTree {
  readonly depth: number
  /** split axis and value of inner nodes */
  readonly axis: Uint8Array
  readonly split: Float32Array
  readonly xyz: Float32Array
  readonly ids: Uint32Array
}

const LEAF = 8

export function buildKdTree(xyz: Float32Array): KdTree {
  const n = xyz.length / 3
  let depth = 0
  while (Math.ceil(n / 2 ** depth) > LEAF) depth++
  const inner = 2 ** depth - 1
  const axis = new Uint8Array(inner)
  const split = f32(inner)
  const ids = u32(n)
  for (let i = 0; i < n; i++) ids[i] = i
  const build = (node: number, lo: number, hi: number, level: number): void => {
    if (level === depth) return
    let [ax, ay, az, bx, by, bz] = [Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity]
    for (let i = lo; i < hi; i++) {
      const o = 3 * ids[i]
      const x = xyz[o]
      const y = xyz[o + 1]
      const z = xyz[o + 2]
      if (x < ax) ax = x
      if (x > bx) bx = x
      if (y < ay) ay = y
      if (y > by) by = y
      if (z < az) az = z
      if (z > bz) bz = z
    }
    const k = bx - ax >= by - ay && bx - ax >= bz - az ? 0 : by - ay >= bz - az ? 1 : 2
    const mid = middle(lo, hi)
    if (hi - lo > 1) selectIds(xyz, ids, k, lo, hi, mid)
    axis[node] = k
    split[node] = hi > mid ? xyz[3 * ids[mid] + k] : Infinity
    build(2 * node + 1, lo, mid, level + 1)
    build(2 * node + 2, mid, hi, level + 1)
  }
  build(0, 0, n, 0)
  const sorted = f32(3 * n)
  for (let i = 0; i < n; i++) {
    sorted[3 * i] = xyz[3 * ids[i]]
    sorted[3 * i + 1] = xyz[3 * ids[i] + 1]
    sorted[3 * i + 2] = xyz[3 * ids[i] + 2]
  }
  return { depth, axis, split, xyz: sorted, ids }
}

const middle = (lo: number, hi: number) => (lo + hi + 1) >>> 1

function selectIds(xyz: Float32Array, ids: Uint32Array, k: number, lo: number, hi: number, target: number): void {
  let l = lo
  let r = hi - 1
  while (l < r) {
    const p = xyz[3 * ids[(l + r) >>> 1] + k]
    let i = l
    let j = r
    while (i <= j) {
      while (xyz[3 * ids[i] + k] < p) i++
      while (xyz[3 * ids[j] + k] > p) j--
      if (i <= j) {
        const t = ids[i]
        ids[i] = ids[j]
        ids[j] = t
        i++
        j--
      }
    }
    if (target <= j) r = j
    else if (target >= i) l = i
    else return
  }
}

/**
 * k nearest of (x, y, z), nearest first: dist2[0..m) squared distances and found[0..m) input places; returns m <= k.
 * maxDist2 bounds the search. Both arrays must hold k numbers.
 */
export function nearestK(tree: KdTree, x: number, y: number, z: number, k: number, found: Int32Array, dist2: Float64Array, maxDist2 = Infinity): number {
  const { depth, axis, split, xyz, ids } = tree
  const n = ids.length
  let m = 0
  let worst = maxDist2
  const q = [x, y, z]
  const visit = (node: number, level: number, lo: number, hi: number, d2: number, ox: number, oy: number, oz: number): void => {
    if (d2 > worst) return
    if (level === depth) {
      for (let i = lo; i < hi; i++) {
        const dx = xyz[3 * i] - x
        const dy = xyz[3 * i + 1] - y
        const dz = xyz[3 * i + 2] - z
        const d = dx * dx + dy * dy + dz * dz
        if (d > worst || (m === k && d >= worst)) continue
        let j = m < k ? m++ : k - 1
        while (j > 0 && dist2[j - 1] > d) {
          dist2[j] = dist2[j - 1]
          found[j] = found[j - 1]
          j--
        }
        dist2[j] = d
        found[j] = ids[i]
        if (m === k) worst = dist2[k - 1]
      }
      return
    }
    const a = axis[node]
    const diff = q[a] - split[node]
    const mid = middle(lo, hi)
    const old = a === 0 ? ox : a === 1 ? oy : oz
    const far = d2 - old * old + diff * diff
    if (diff < 0) {
      visit(2 * node + 1, level + 1, lo, mid, d2, ox, oy, oz)
      visit(2 * node + 2, level + 1, mid, hi, far, a === 0 ? diff : ox, a === 1 ? diff : oy, a === 2 ? diff : oz)
    } else {
      visit(2 * node + 2, level + 1, mid, hi, d2, ox, oy, oz)
      visit(2 * node + 1, level + 1, lo, mid, far, a === 0 ? diff : ox, a === 1 ? diff : oy, a === 2 ? diff : oz)
    }
  }
  visit(0, 0, 0, n, 0, 0, 0, 0)
  return m
}
