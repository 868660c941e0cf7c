import { rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { seeded } from '../base/random.ts'
import type { Points } from './points.ts'

/**
 * Turns normals (3N, input order) out of the material, in place.
 * With a viewpoint: towards it. Without: neighbours are made to agree along a tree that prefers flat steps
 * (Hoppe 1992), and each connected piece takes the sign for which points that stick out furthest in a direction
 * have their normal that way. A flat patch seen alone has no outside; the caller says 'guessed'.
 */
export function orientNormals(points: Points, normals: Float32Array, grid: RowGrid, radius: number): 'viewpoint' | 'guessed' {
  const p = points.xyz
  if (points.viewpoint) {
    const [vx, vy, vz] = points.viewpoint
    for (let o = 0; o < p.length; o += 3)
      if ((vx - p[o]) * normals[o] + (vy - p[o + 1]) * normals[o + 1] + (vz - p[o + 2]) * normals[o + 2] < 0) flip(normals, o)
    return 'viewpoint'
  }
  const piece = propagate(normals, grid, radius)
  outward(p, normals, piece)
  return 'guessed'
}

function flip(n: Float32Array, o: number): void {
  n[o] = -n[o]
  n[o + 1] = -n[o + 1]
  n[o + 2] = -n[o + 2]
}

/**
 * Breadth-first over neighbours in classes of how well the normals agree, flattest steps first: a bucket queue
 * in place of a minimum spanning tree, O(N). Gives the piece number of every input point.
 */
function propagate(normals: Float32Array, grid: RowGrid, radius: number): Int32Array {
  const n = grid.ids.length
  const piece = new Int32Array(n).fill(-1)
  const runs = runsFor(grid, radius)
  const BUCKETS = 8
  const parentOf = new Int32Array(n).fill(-1)
  const level = new Uint8Array(n).fill(255)
  const p = grid.xyz
  let pieces = 0
  for (let seed = 0; seed < n; seed++) {
    if (piece[grid.ids[seed]] >= 0) continue
    const queues: number[][] = Array.from({ length: BUCKETS }, () => [])
    queues[0].push(seed)
    level[seed] = 0
    for (;;) {
      const b = queues.findIndex((q) => q.length > 0)
      if (b < 0) break
      const i = queues[b].pop() as number
      const id = grid.ids[i]
      if (piece[id] >= 0) continue
      piece[id] = pieces
      const from = parentOf[i]
      const o = 3 * id
      if (from >= 0) {
        const q = 3 * grid.ids[from]
        if (normals[o] * normals[q] + normals[o + 1] * normals[q + 1] + normals[o + 2] * normals[q + 2] < 0) flip(normals, o)
      }
      const m = rowRuns(grid, p[3 * i], p[3 * i + 1], p[3 * i + 2], radius * 0.6, runs)
      for (let k = 0; k < m; k++)
        for (let j = runs[2 * k]; j < runs[2 * k + 1]; j++) {
          const jd = grid.ids[j]
          if (piece[jd] >= 0) continue
          const q = 3 * jd
          const c = Math.abs(normals[o] * normals[q] + normals[o + 1] * normals[q + 1] + normals[o + 2] * normals[q + 2])
          const l = Math.min(BUCKETS - 1, Math.max(0, Math.floor((1 - c) * 2 * BUCKETS)))
          if (l < level[j]) {
            level[j] = l
            parentOf[j] = i
            queues[l].push(j)
          }
        }
    }
    pieces++
  }
  return piece
}

function outward(p: Float32Array, normals: Float32Array, piece: Int32Array): void {
  let count = 0
  for (let i = 0; i < piece.length; i++) count = Math.max(count, piece[i] + 1)
  const votes = new Float64Array(count)
  const random = seeded(7)
  const best = new Float64Array(count)
  const at = new Int32Array(count)
  for (let d = 0; d < 64; d++) {
    const u = 2 * random.next() - 1
    const a = 2 * Math.PI * random.next()
    const s = Math.sqrt(1 - u * u)
    const [x, y, z] = [s * Math.cos(a), s * Math.sin(a), u]
    best.fill(-Infinity)
    for (let i = 0; i < piece.length; i++) {
      const v = x * p[3 * i] + y * p[3 * i + 1] + z * p[3 * i + 2]
      if (v > best[piece[i]]) {
        best[piece[i]] = v
        at[piece[i]] = i
      }
    }
    for (let k = 0; k < count; k++) {
      const o = 3 * at[k]
      const c = x * normals[o] + y * normals[o + 1] + z * normals[o + 2]
      votes[k] += c * Math.abs(c)
    }
  }
  for (let i = 0; i < piece.length; i++) if (votes[piece[i]] < 0) flip(normals, 3 * i)
}
