import { buildRowGrid, rowRuns, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { seeded } from '../base/random.ts'
import type { Points } from './points.ts'

/**
 * Turns normals (3N, input order) out of the material, in place.
 * grid: of these points, when there is one already. With a viewpoint: towards it. Without: neighbours are made to agree along a tree that prefers flat steps
 * (Hoppe 1992) and ends at edges, and each smooth piece is turned to the side it can be seen from. A flat patch alone has no outside;
 * the caller says 'guessed'. Tried: one tree across edges and a sign for the whole by the outermost points: 31 % right on a noisy plate.
 */
export function orientNormals(points: Points, normals: Float32Array, grid: RowGrid | null, radius: number): Int32Array | null {
  const p = points.xyz
  if (points.viewpoint) {
    const [vx, vy, vz] = points.viewpoint
    for (let o = 0; o < p.length; o += 3)
      if ((vx - p[o]) * normals[o] + (vy - p[o + 1]) * normals[o + 1] + (vz - p[o + 2]) * normals[o + 2] < 0) flip(normals, o)
    return null
  }
  const piece = propagate(normals, grid ?? buildRowGrid(p, radius), radius)
  outward(p, normals, piece, radius)
  return piece
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
          // an edge says nothing of which side is out: pieces end there
          if (c < 0.6) continue
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

/**
 * Turns each piece to the side from which it can be seen: depth maps from directions all round, as wide as the neighbourhood a pixel,
 * and every point that is not hidden votes. A sheet that is seen from both sides has no outside, and keeps what it has.
 */
function outward(p: Float32Array, normals: Float32Array, piece: Int32Array, pixel: number): void {
  let count = 0
  for (let i = 0; i < piece.length; i++) count = Math.max(count, piece[i] + 1)
  const votes = new Float64Array(count)
  const random = seeded(7)
  const n = piece.length
  const column = new Int32Array(n)
  const depth = new Float32Array(n)
  for (let d = 0; d < 64; d++) {
    const w = 2 * random.next() - 1
    const a = 2 * Math.PI * random.next()
    const s = Math.sqrt(1 - w * w)
    const [x, y, z] = [s * Math.cos(a), s * Math.sin(a), w]
    // any two axes square to the direction
    const [ux, uy, uz] = [-Math.sin(a), Math.cos(a), 0]
    const [vx, vy, vz] = [y * uz - z * uy, z * ux - x * uz, x * uy - y * ux]
    let [minU, minV, maxU, maxV] = [Infinity, Infinity, -Infinity, -Infinity]
    for (let i = 0; i < n; i++) {
      const u = ux * p[3 * i] + uy * p[3 * i + 1] + uz * p[3 * i + 2]
      const v = vx * p[3 * i] + vy * p[3 * i + 1] + vz * p[3 * i + 2]
      if (u < minU) minU = u
      if (u > maxU) maxU = u
      if (v < minV) minV = v
      if (v > maxV) maxV = v
    }
    const size = Math.max(pixel, (maxU - minU) / 2000, (maxV - minV) / 2000)
    const wide = Math.floor((maxU - minU) / size) + 1
    const front = new Float32Array(wide * (Math.floor((maxV - minV) / size) + 1)).fill(-Infinity)
    for (let i = 0; i < n; i++) {
      const u = ux * p[3 * i] + uy * p[3 * i + 1] + uz * p[3 * i + 2]
      const v = vx * p[3 * i] + vy * p[3 * i + 1] + vz * p[3 * i + 2]
      column[i] = Math.floor((v - minV) / size) * wide + Math.floor((u - minU) / size)
      depth[i] = x * p[3 * i] + y * p[3 * i + 1] + z * p[3 * i + 2]
      if (depth[i] > front[column[i]]) front[column[i]] = depth[i]
    }
    for (let i = 0; i < n; i++) {
      if (depth[i] < front[column[i]] - size) continue
      const c = x * normals[3 * i] + y * normals[3 * i + 1] + z * normals[3 * i + 2]
      votes[piece[i]] += c * Math.abs(c)
    }
  }
  for (let i = 0; i < n; i++) if (votes[piece[i]] < 0) flip(normals, 3 * i)
}
