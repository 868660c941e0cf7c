import { f32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import { keepTriangles, makeMesh, vertexCount, type Mesh } from '../shape/mesh.ts'
import { boundingBox } from '../shape/points.ts'
import { oppositeSides } from '../shape/topology.ts'
import { buildBvh } from '../space/bvh.ts'
import { prepareWinding, windingKernel } from '../space/winding.ts'
import { blockCount, blockKey, touchBlock, type Lattice } from './lattice.ts'
import { extractSurface } from './marching.ts'

export type Closing = 'open' | 'small' | 'closed'

const MAX_CELLS = 4_000_000

/**
 * Carries the surface on from its open borders, cell by cell (continuation, Wyvill 1986), along the place where the
 * generalised winding number of what was measured is one half (Jacobson 2013): the global compromise between inside and
 * outside, whatever the shape of the border. The filled part is smoothed as a membrane and flagged not measured.
 * 'small' keeps only fillings up to gapSize across; a bore right through a part has no border and stays open in any case.
 * Gives the whole mesh, measured part unchanged.
 */
export async function closeSurface(lattice: Lattice, values: Float32Array, open: Mesh, closing: Closing, gapSize: number, ctx: RunContext): Promise<Mesh> {
  const winding = prepareWinding(buildBvh(open))
  const box = boundingBox(open.vertices)
  const { cell, origin } = lattice
  const low = [0, 1, 2].map((k) => Math.floor((box[k] - origin[k]) / cell) - 2)
  const high = [0, 1, 2].map((k) => Math.ceil((box[3 + k] - origin[k]) / cell) + 2)
  const filled = new Map<number, number>()
  const key = blockKey
  const known = (x: number, y: number, z: number): number => {
    const b = lattice.map.get(blockKey(x >> 3, y >> 3, z >> 3))
    return b === undefined ? NaN : values[512 * b + ((z & 7) << 6) + ((y & 7) << 3) + (x & 7)]
  }
  const valueAt = (x: number, y: number, z: number): number => {
    const f = known(x, y, z)
    return f === f ? f : (filled.get(key(x, y, z)) ?? NaN)
  }
  const seen = new Set<number>()
  let front: number[] = []
  const push = (x: number, y: number, z: number): void => {
    if (x < low[0] || y < low[1] || z < low[2] || x >= high[0] || y >= high[1] || z >= high[2]) return
    const k = key(x, y, z)
    if (seen.has(k)) return
    seen.add(k)
    front.push(x, y, z)
  }
  seedCells(lattice, values, push)
  const corner = new Float64Array(8)
  while (front.length) {
    checkCancelled(ctx)
    if (seen.size > MAX_CELLS)
      throw new OakError('gap-too-large', 'What would have to be filled is larger than the part.', {
        remedy: 'Leave the mesh open, close small gaps only, or use a coarser cell.',
      })
    // first all unknown corners of this front at once, over all threads
    const ask: number[] = []
    for (let i = 0; i < front.length; i += 3)
      for (let c = 0; c < 8; c++) {
        const x = front[i] + (c & 1)
        const y = front[i + 1] + ((c >> 1) & 1)
        const z = front[i + 2] + (c >> 2)
        if (Number.isNaN(valueAt(x, y, z))) {
          filled.set(key(x, y, z), 0)
          ask.push(x, y, z)
        }
      }
    const n = ask.length / 3
    const xyz = f32(3 * n)
    for (let i = 0; i < ask.length; i++) xyz[i] = origin[i % 3] + cell * ask[i]
    const out = f32(n)
    await ctx.parallel.map(windingKernel, { ...winding, xyz, out }, n, 1024, ctx)
    for (let i = 0; i < n; i++) {
      const [x, y, z] = [ask[3 * i], ask[3 * i + 1], ask[3 * i + 2]]
      const rim = x <= low[0] || y <= low[1] || z <= low[2] || x >= high[0] || y >= high[1] || z >= high[2]
      const g = Math.max(-1, Math.min(1, 2 * (0.5 - out[i]))) * cell
      filled.set(key(x, y, z), rim ? cell : g === 0 ? 1e-6 * cell : g)
    }
    const now = front
    front = []
    for (let i = 0; i < now.length; i += 3) {
      const [x, y, z] = [now[i], now[i + 1], now[i + 2]]
      for (let c = 0; c < 8; c++) corner[c] = valueAt(x + (c & 1), y + ((c >> 1) & 1), z + (c >> 2))
      for (let axis = 0; axis < 3; axis++)
        for (let side = 0; side < 2; side++) {
          let inside = 0
          for (let c = 0; c < 8; c++) if (((c >> axis) & 1) === side && corner[c] < 0) inside++
          if (inside === 0 || inside === 4) continue
          const d = [0, 0, 0]
          d[axis] = side ? 1 : -1
          if (needsFilling(x + d[0], y + d[1], z + d[2], known)) push(x + d[0], y + d[1], z + d[2])
        }
    }
    ctx.progress(Math.min(0.7, seen.size / 300_000))
  }
  const { values: all, isFilled } = addNodes(lattice, values, filled)
  const whole = extractSurface(lattice, all)
  const unmeasured = u8(whole.triangles.length / 3)
  for (let i = 0; i < unmeasured.length; i++) unmeasured[i] = cellTouches(lattice, whole.cellOf[i], isFilled) ? 1 : 0
  let mesh = makeMesh({ vertices: whole.vertices, triangles: whole.triangles, unmeasured })
  mesh = keepWanted(mesh, closing, gapSize)
  ctx.progress(0.9)
  return smoothFilling(mesh, 40)
}

function needsFilling(x: number, y: number, z: number, known: (x: number, y: number, z: number) => number): boolean {
  for (let c = 0; c < 8; c++) if (Number.isNaN(known(x + (c & 1), y + ((c >> 1) & 1), z + (c >> 2)))) return true
  return false
}

/** Incomplete cells that share a known, crossed edge with the surface: where it breaks off. */
function seedCells(l: Lattice, values: Float32Array, push: (x: number, y: number, z: number) => void): void {
  const n = blockCount(l)
  const at = (x: number, y: number, z: number): number => {
    const b = l.map.get(blockKey(x >> 3, y >> 3, z >> 3))
    return b === undefined ? NaN : values[512 * b + ((z & 7) << 6) + ((y & 7) << 3) + (x & 7)]
  }
  for (let b = 0; b < n; b++)
    for (let node = 0; node < 512; node++) {
      const f = values[512 * b + node]
      if (f !== f) continue
      const x = 8 * l.blocks[3 * b] + (node & 7)
      const y = 8 * l.blocks[3 * b + 1] + ((node >> 3) & 7)
      const z = 8 * l.blocks[3 * b + 2] + (node >> 6)
      for (let axis = 0; axis < 3; axis++) {
        const g = at(x + (axis === 0 ? 1 : 0), y + (axis === 1 ? 1 : 0), z + (axis === 2 ? 1 : 0))
        if (!(f < 0 !== g < 0) || g !== g) continue
        // the four cells around this edge
        for (let k = 0; k < 4; k++) {
          const d = [0, 0, 0]
          d[(axis + 1) % 3] = -(k & 1)
          d[(axis + 2) % 3] = -(k >> 1)
          if (needsFilling(x + d[0], y + d[1], z + d[2], at)) push(x + d[0], y + d[1], z + d[2])
        }
      }
    }
}

function addNodes(l: Lattice, values: Float32Array, filled: Map<number, number>): { values: Float32Array; isFilled: Uint8Array } {
  const unpack = (k: number): [number, number, number] => {
    const z = (k % 131072) - 65536
    const rest = Math.floor(k / 131072)
    return [Math.floor(rest / 131072) - 65536, (rest % 131072) - 65536, z]
  }
  const where: [number, number][] = []
  for (const [k, v] of filled) {
    const [x, y, z] = unpack(k)
    where.push([512 * touchBlock(l, x >> 3, y >> 3, z >> 3) + ((z & 7) << 6) + ((y & 7) << 3) + (x & 7), v])
  }
  const all = f32(512 * blockCount(l)).fill(NaN)
  all.set(values)
  const isFilled = u8(all.length)
  for (const [slot, v] of where) {
    all[slot] = v
    isFilled[slot] = 1
  }
  return { values: all, isFilled }
}

function cellTouches(l: Lattice, cellSlot: number, isFilled: Uint8Array): boolean {
  const b = Math.floor(cellSlot / 512)
  const node = cellSlot & 511
  const x = 8 * l.blocks[3 * b] + (node & 7)
  const y = 8 * l.blocks[3 * b + 1] + ((node >> 3) & 7)
  const z = 8 * l.blocks[3 * b + 2] + (node >> 6)
  for (let c = 0; c < 8; c++) {
    const [cx, cy, cz] = [x + (c & 1), y + ((c >> 1) & 1), z + (c >> 2)]
    const block = l.map.get(blockKey(cx >> 3, cy >> 3, cz >> 3))
    if (block !== undefined && isFilled[512 * block + ((cz & 7) << 6) + ((cy & 7) << 3) + (cx & 7)]) return true
  }
  return false
}

/** Fillings are pieces of unmeasured triangles joined over edges; 'small' keeps those whose box diagonal is within the size. */
function keepWanted(mesh: Mesh, closing: Closing, gapSize: number): Mesh {
  if (closing === 'closed') return mesh
  const flag = mesh.unmeasured as Uint8Array
  const sides = oppositeSides(mesh)
  const n = flag.length
  const piece = new Int32Array(n).fill(-1)
  const keep = u8(n).fill(1)
  const p = mesh.vertices
  for (let seed = 0; seed < n; seed++) {
    if (!flag[seed] || piece[seed] >= 0) continue
    const members = [seed]
    piece[seed] = seed
    const lo = [Infinity, Infinity, Infinity]
    const hi = [-Infinity, -Infinity, -Infinity]
    for (let i = 0; i < members.length; i++) {
      const t = members[i]
      for (let k = 0; k < 3; k++) {
        const v = 3 * mesh.triangles[3 * t + k]
        for (let d = 0; d < 3; d++) {
          lo[d] = Math.min(lo[d], p[v + d])
          hi[d] = Math.max(hi[d], p[v + d])
        }
        const o = sides[3 * t + k]
        if (o < 0) continue
        const u = (o / 3) | 0
        if (flag[u] && piece[u] < 0) {
          piece[u] = seed
          members.push(u)
        }
      }
    }
    if (Math.hypot(hi[0] - lo[0], hi[1] - lo[1], hi[2] - lo[2]) > gapSize) for (const t of members) keep[t] = 0
  }
  return keepTriangles(mesh, keep)
}

/** Membrane: vertices used by filled triangles only move to the mean of their neighbours. */
function smoothFilling(mesh: Mesh, rounds: number): Mesh {
  const flag = mesh.unmeasured
  if (!flag) return mesh
  const n = vertexCount(mesh)
  const free = new Uint8Array(n).fill(1)
  const touched = new Uint8Array(n)
  for (let i = 0; i < mesh.triangles.length; i++) {
    if (flag[(i / 3) | 0]) touched[mesh.triangles[i]] = 1
    else free[mesh.triangles[i]] = 0
  }
  const vertices = f32(mesh.vertices.length)
  vertices.set(mesh.vertices)
  const sum = new Float64Array(3 * n)
  const count = new Float64Array(n)
  for (let r = 0; r < rounds; r++) {
    sum.fill(0)
    count.fill(0)
    for (let i = 0; i < mesh.triangles.length; i += 3) {
      if (!flag[i / 3]) continue
      for (let k = 0; k < 3; k++) {
        const a = mesh.triangles[i + k]
        const b = mesh.triangles[i + ((k + 1) % 3)]
        for (let d = 0; d < 3; d++) {
          sum[3 * a + d] += vertices[3 * b + d]
          sum[3 * b + d] += vertices[3 * a + d]
        }
        count[a]++
        count[b]++
      }
    }
    for (let v = 0; v < n; v++) if (touched[v] && free[v] && count[v] > 0) for (let d = 0; d < 3; d++) vertices[3 * v + d] = sum[3 * v + d] / count[v]
  }
  return makeMesh({ ...mesh, vertices })
}
