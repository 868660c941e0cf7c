import { f32, u8 } from '../base/arrays.ts'
import { defineKernel, type RunContext } from '../base/run.ts'
import { buildKdTree, nearestK, type KdTree } from '../space/kdtree.ts'
import { buildRowGrid, rowRuns, runsFor } from '../space/rowgrid.ts'
import { pointSpacing } from '../shape/spacing.ts'

interface StrayArgs {
  tree: KdTree
  neighbours: number
  mean: Float32Array
}

const strayKernel = defineKernel('clean.strays', (a: StrayArgs, start: number, end: number) => {
  const k = a.neighbours + 1
  const found = new Int32Array(k)
  const d2 = new Float64Array(k)
  const p = a.tree.xyz
  for (let i = start; i < end; i++) {
    const m = nearestK(a.tree, p[3 * i], p[3 * i + 1], p[3 * i + 2], k, found, d2)
    let s = 0
    for (let j = 1; j < m; j++) s += Math.sqrt(d2[j])
    a.mean[a.tree.ids[i]] = m > 1 ? s / (m - 1) : Infinity
  }
})

/**
 * Keep flags of 3N points: 0 where the mean distance to `neighbours` nearest ones exceeds the cloud's mean by `sigmas`
 * standard deviations (Rusu 2008), both estimated from the median so that the strays themselves do not widen the limit.
 * The spread counts as 22 % of the usual distance at least: on an even raster it is next to nothing, and the rim of the pass would go (measured: 4.5 % of the points).
 */
export async function findStrays(xyz: Float32Array, neighbours: number, sigmas: number, ctx: RunContext): Promise<Uint8Array> {
  const n = xyz.length / 3
  const tree = buildKdTree(xyz)
  const mean = f32(n)
  await ctx.parallel.map(strayKernel, { tree, neighbours, mean }, n, 8192, ctx, (d) => ctx.progress(d, 'strays'))
  const sorted = Float32Array.from(mean).sort()
  const mid = sorted[(n - 1) >> 1]
  const spread = 1.4826 * Math.max(sorted[Math.floor(0.75 * (n - 1))] - mid, mid - sorted[Math.floor(0.25 * (n - 1))], 0.1 * mid) * 1.5
  const keep = u8(n)
  for (let i = 0; i < n; i++) keep[i] = mean[i] <= mid + sigmas * spread ? 1 : 0
  return keep
}

/**
 * Islands: groups of points joined over steps of at most `gap` mm (default 5 spacings). Gives the group of each point,
 * the largest group first, and the sizes.
 */
export function findIslands(xyz: Float32Array, gap?: number): { islandOf: Int32Array; sizes: number[]; gap: number } {
  const n = xyz.length / 3
  const step = gap ?? 5 * pointSpacing(xyz)
  const grid = buildRowGrid(xyz, Math.max(step, 1e-9))
  const runs = runsFor(grid, step)
  const p = grid.xyz
  const raw = new Int32Array(n).fill(-1)
  const sizes: number[] = []
  const stack: number[] = []
  for (let seed = 0; seed < n; seed++) {
    if (raw[seed] >= 0) continue
    const id = sizes.length
    let size = 0
    raw[seed] = id
    stack.push(seed)
    while (stack.length) {
      const i = stack.pop() as number
      size++
      const m = rowRuns(grid, p[3 * i], p[3 * i + 1], p[3 * i + 2], step, runs)
      for (let k = 0; k < m; k++)
        for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
          if (raw[j] >= 0) continue
          if ((p[3 * j] - p[3 * i]) ** 2 + (p[3 * j + 1] - p[3 * i + 1]) ** 2 + (p[3 * j + 2] - p[3 * i + 2]) ** 2 > step * step) continue
          raw[j] = id
          stack.push(j)
        }
    }
    sizes.push(size)
  }
  const order = sizes.map((_, i) => i).sort((a, b) => sizes[b] - sizes[a] || a - b)
  const rank = new Int32Array(sizes.length)
  order.forEach((o, r) => (rank[o] = r))
  const islandOf = new Int32Array(n)
  for (let k = 0; k < n; k++) islandOf[grid.ids[k]] = rank[raw[k]]
  return { islandOf, sizes: order.map((o) => sizes[o]), gap: step }
}
