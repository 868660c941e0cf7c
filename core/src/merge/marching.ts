import { GrowF32, GrowU32, u32 } from '../base/arrays.ts'
import type { Brick } from './bricks.ts'
import { blockCount, blockKey, type Lattice } from './lattice.ts'

/**
 * Isosurface of a lattice by marching cubes (Lorensen and Cline 1987), with the cases made by rule and not by table:
 * on every cube face the crossings are joined by the face's own four values (asymptotic decider, Nielson and Hamann
 * 1991), both cubes of a face see the same values, so there are no cracks; the segments of the six faces close to loops,
 * each loop is a disc, each lattice edge bears at most one vertex: the surface is manifold.
 * Cells with an unknown corner are left out: the surface ends there in an open border.
 */

/** corner c of a cell: bit 0 x, bit 1 y, bit 2 z. Corners of the faces, counter-clockwise from outside. */
const FACES = [
  [0, 4, 6, 2],
  [1, 3, 7, 5],
  [0, 1, 5, 4],
  [2, 6, 7, 3],
  [0, 2, 3, 1],
  [4, 5, 7, 6],
]
/** edge e: axis e >> 2, and the two other corner bits in e & 3 */
const EDGE_CORNERS: [number, number][] = []
const EDGE_OF = new Map<number, number>()
for (let axis = 0; axis < 3; axis++)
  for (let k = 0; k < 4; k++) {
    const bits = [1, 2, 4].filter((_, i) => i !== axis)
    const a = (k & 1 ? bits[0] : 0) | (k & 2 ? bits[1] : 0)
    const b = a | (1 << axis)
    EDGE_OF.set(a * 8 + b, EDGE_CORNERS.length)
    EDGE_OF.set(b * 8 + a, EDGE_CORNERS.length)
    EDGE_CORNERS.push([a, b])
  }
const FACES_OF_EDGE = EDGE_CORNERS.map(([a, b]) => FACES.reduce((m, f, i) => (f.includes(a) && f.includes(b) ? m | (1 << i) : m), 0))

const cases = new Map<number, Uint8Array>()

/** From here on the numbers of a case mean no edge but the middle of a loop. */
export const CENTRE = 12

/** Triangles (edge numbers, three each; from CENTRE on middles of loops, each the last of its triangle) for a sign mask (bit = inside) and the faces on which the insides are joined. */
export function cubeCase(inside: number, joined: number): Uint8Array {
  const key = inside * 64 + joined
  let t = cases.get(key)
  if (!t) cases.set(key, (t = makeCase(inside, joined)))
  return t
}

function makeCase(inside: number, joined: number): Uint8Array {
  const next = new Map<number, number>()
  const isIn = (c: number) => ((inside >> c) & 1) === 1
  FACES.forEach((f, fi) => {
    const exits: number[] = []
    const entries: number[] = []
    const edge = (k: number) => EDGE_OF.get(f[k] * 8 + f[(k + 1) & 3]) as number
    for (let k = 0; k < 4; k++) {
      const a = isIn(f[k])
      const b = isIn(f[(k + 1) & 3])
      if (a && !b) exits.push(k)
      if (!a && b) entries.push(k)
    }
    for (const k of exits) {
      // an inside corner cut off alone: its entry is the edge before; insides joined: the entry after
      const entry = exits.length === 1 ? entries[0] : (joined >> fi) & 1 ? (k + 1) & 3 : (k + 3) & 3
      next.set(edge(entry), edge(k))
    }
  })
  const out: number[] = []
  while (next.size) {
    const loop: number[] = []
    let e = next.keys().next().value as number
    while (next.has(e)) {
      loop.push(e)
      const n = next.get(e) as number
      next.delete(e)
      e = n
    }
    triangulate(loop, out)
  }
  return Uint8Array.from(out)
}

/** Splits a loop without a diagonal in a cube face, where the neighbour might draw the same one; where there is no other way, from its middle. */
const FLAT = 100
function triangulate(loop: number[], out: number[]): void {
  const n = loop.length
  const flat = (i: number, j: number) => (j - i === 1 || (i === 0 && j === n - 1) ? 0 : FACES_OF_EDGE[loop[i]] & FACES_OF_EDGE[loop[j]] ? FLAT : 1)
  const cost = Array.from({ length: n }, () => new Array<number>(n).fill(0))
  const cut = Array.from({ length: n }, () => new Array<number>(n).fill(-1))
  for (let len = 2; len < n; len++)
    for (let i = 0; i + len < n; i++) {
      const j = i + len
      cost[i][j] = Infinity
      for (let k = i + 1; k < j; k++) {
        const c = cost[i][k] + cost[k][j] + flat(i, k) + flat(k, j)
        if (c < cost[i][j]) {
          cost[i][j] = c
          cut[i][j] = k
        }
      }
    }
  const emit = (i: number, j: number): void => {
    if (j - i < 2) return
    const k = cut[i][j]
    out.push(loop[i], loop[k], loop[j])
    emit(i, k)
    emit(k, j)
  }
  if (cost[0][n - 1] < FLAT) return emit(0, n - 1)
  const centre = Math.max(CENTRE - 1, ...out) + 1
  for (let i = 0; i < n; i++) out.push(loop[i], loop[(i + 1) % n], centre)
}

export interface Extracted {
  vertices: Float32Array
  triangles: Uint32Array
  /** block * 512 + node of each triangle's cell */
  cellOf: Uint32Array
}

/** Surface of a lattice that comes in bricks: what bricks share has the same vertices. */
export interface SurfaceBuilder {
  add(l: Lattice, values: Float32Array, brick: Brick): void
  done(): { vertices: Float32Array; triangles: Uint32Array }
}

/** A vertex this near to a lattice node (share of a cell) is held off it: no triangles without area, error below 1 % of a cell. */
const HOLD_OFF = 0.01

/** values: 512 a block in lattice order, negative inside, NaN unknown. */
export function extractSurface(l: Lattice, values: Float32Array): Extracted {
  const vertices = new GrowF32(1 << 18)
  const triangles = new GrowU32(1 << 18)
  const cellOf = new GrowU32(1 << 16)
  extract(l, values, newPages(blockCount(l)), () => true, { vertices, triangles, cellOf })
  return { vertices: vertices.done(), triangles: triangles.done(), cellOf: cellOf.done() }
}

export function surfaceBuilder(): SurfaceBuilder {
  const vertices = new GrowF32(1 << 18)
  const pieces: Uint32Array[] = []
  // of blocks at the border of a brick: place in the page and number of each vertex on the border
  const seams = new Map<number, number[]>()
  return { add, done }

  function add(l: Lattice, values: Float32Array, { low, high }: Brick): void {
    const pages = newPages(blockCount(l))
    for (const [key, b] of l.map) {
      const known = seams.get(key)
      for (let i = 0; known && i < known.length; i += 2) setVertex(pages, b, known[i], known[i + 1])
    }
    const triangles = new GrowU32(1 << 18)
    const own = (b: number) => l.blocks[3 * b] < high[0] && l.blocks[3 * b + 1] < high[1] && l.blocks[3 * b + 2] < high[2]
    extract(l, values, pages, own, { vertices, triangles })
    pieces.push(triangles.done())
    for (const [key, b] of l.map) {
      const border = [0, 1, 2].map((k) => l.blocks[3 * b + k] === low[k] || l.blocks[3 * b + k] === high[k])
      if (!border.includes(true) || pages.of[b] < 0) continue
      const seam = seams.get(key) ?? []
      for (let i = 0; i < PAGE; i++) {
        const v = pages.vertices[pages.of[b] + i]
        if (v < 0) continue
        const node = Math.floor(i / 3)
        const place = [node & 7, (node >> 3) & 7, node >> 6]
        if (border.some((at, k) => at && place[k] === 0 && i % 3 !== k)) seam.push(i, v)
      }
      if (seam.length) seams.set(key, seam)
    }
  }

  function done() {
    const triangles = u32(pieces.reduce((s, p) => s + p.length, 0))
    let at = triangles.length
    for (let p = pieces.pop(); p; p = pieces.pop()) triangles.set(p, (at -= p.length))
    return { vertices: vertices.done(), triangles }
  }
}

/** Number of the vertex on each edge, three a node: for blocks that have any, since most of a band has none. */
interface Pages {
  /** where the page of each block begins, -1 without one */
  of: Int32Array
  vertices: Int32Array
  length: number
}
const PAGE = 1536
const newPages = (blocks: number): Pages => ({ of: new Int32Array(blocks).fill(-1), vertices: new Int32Array(64 * PAGE), length: 0 })

function setVertex(p: Pages, block: number, i: number, vertex: number): void {
  if (p.of[block] < 0) {
    if (p.length === p.vertices.length) {
      const grown = new Int32Array(2 * p.vertices.length)
      grown.set(p.vertices)
      p.vertices = grown
    }
    p.of[block] = p.length
    p.length += PAGE
    p.vertices.fill(-1, p.of[block], p.length)
  }
  p.vertices[p.of[block] + i] = vertex
}

interface Out {
  vertices: GrowF32
  triangles: GrowU32
  cellOf?: GrowU32
}

/** Adds the surface in the cells of the blocks that are `own`. */
function extract(l: Lattice, values: Float32Array, pages: Pages, own: (block: number) => boolean, { vertices, triangles, cellOf }: Out): void {
  const n = blockCount(l)
  const nb = new Int32Array(8)
  const v = new Float64Array(8)
  const slot = new Int32Array(8)
  const ids = new Int32Array(CENTRE + 4)
  const [ox, oy, oz] = l.origin
  const { cell } = l
  for (let b = 0; b < n; b++) {
    if (!own(b)) continue
    const bx = l.blocks[3 * b]
    const by = l.blocks[3 * b + 1]
    const bz = l.blocks[3 * b + 2]
    for (let c = 0; c < 8; c++) nb[c] = c === 0 ? b : (l.map.get(blockKey(bx + (c & 1), by + ((c >> 1) & 1), bz + (c >> 2))) ?? -1)
    for (let node = 0; node < 512; node++) {
      const f0 = values[512 * b + node]
      if (f0 !== f0) continue
      const x = node & 7
      const y = (node >> 3) & 7
      const z = node >> 6
      let inside = 0
      let known = true
      for (let c = 0; c < 8; c++) {
        const cx = x + (c & 1)
        const cy = y + ((c >> 1) & 1)
        const cz = z + (c >> 2)
        const block = nb[(cx >> 3) | ((cy >> 3) << 1) | ((cz >> 3) << 2)]
        if (block < 0) {
          known = false
          break
        }
        const s = 512 * block + ((cz & 7) << 6) + ((cy & 7) << 3) + (cx & 7)
        const f = values[s]
        if (f !== f) {
          known = false
          break
        }
        v[c] = f
        slot[c] = s
        if (f < 0) inside |= 1 << c
      }
      if (!known || inside === 0 || inside === 255) continue
      let joined = 0
      for (let fi = 0; fi < 6; fi++) {
        const face = FACES[fi]
        const a = (inside >> face[0]) & 1
        if (a === ((inside >> face[2]) & 1) && a !== ((inside >> face[1]) & 1) && a !== ((inside >> face[3]) & 1)) {
          // value at the saddle of the bilinear face: negative joins the insides
          const p = v[face[0]]
          const q = v[face[1]]
          const r = v[face[2]]
          const s = v[face[3]]
          if ((p * r - q * s) / (p + r - q - s) < 0) joined |= 1 << fi
        }
      }
      const t = cubeCase(inside, joined)
      let centre = 0
      for (let k = 0; k < t.length; k++) {
        const e = t[k]
        if (e >= CENTRE) {
          centre = Math.max(centre, e)
          continue
        }
        const [c0, c1] = EDGE_CORNERS[e]
        const axis = e >> 2
        const block = slot[c0] >>> 9
        const edge = 3 * (slot[c0] & 511) + axis
        let id = pages.of[block] < 0 ? -1 : pages.vertices[pages.of[block] + edge]
        if (id < 0) {
          id = vertices.length / 3
          setVertex(pages, block, edge, id)
          let u = v[c0] / (v[c0] - v[c1])
          if (!(u > HOLD_OFF)) u = HOLD_OFF
          else if (u > 1 - HOLD_OFF) u = 1 - HOLD_OFF
          const nx = 8 * bx + x + (c0 & 1)
          const ny = 8 * by + y + ((c0 >> 1) & 1)
          const nz = 8 * bz + z + (c0 >> 2)
          vertices.push3(ox + cell * (nx + (axis === 0 ? u : 0)), oy + cell * (ny + (axis === 1 ? u : 0)), oz + cell * (nz + (axis === 2 ? u : 0)))
        }
        ids[e] = id
      }
      for (let e = CENTRE; e <= centre; e++) {
        ids[e] = vertices.length / 3
        middle(e, t, ids, vertices)
      }
      for (let k = 0; k < t.length; k++) triangles.push(ids[t[k]])
      if (cellOf) for (let k = 0; k < t.length; k += 3) cellOf.push(512 * b + node)
    }
  }
}

/** Adds the mean of the vertices around a middle. */
function middle(centre: number, t: Uint8Array, ids: Int32Array, vertices: GrowF32): void {
  const sum = [0, 0, 0]
  let n = 0
  // each vertex of the loop stands in two triangles
  for (let k = 0; k < t.length; k += 3) {
    if (t[k + 2] !== centre) continue
    for (const e of [t[k], t[k + 1]]) for (let d = 0; d < 3; d++) sum[d] += vertices.at(3 * ids[e] + d)
    n += 2
  }
  vertices.push3(sum[0] / n, sum[1] / n, sum[2] / n)
}
