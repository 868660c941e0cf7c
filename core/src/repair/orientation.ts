import { makeMesh, triangleAreas, turnedSurface, type Mesh } from '../shape/mesh.ts'
import { oppositeSides } from '../shape/topology.ts'
import { buildBvh } from '../space/bvh.ts'
import { prepareWinding, windingNumber } from '../space/winding.ts'

export interface Oriented {
  mesh: Mesh
  /** triangles that lay the other way round than their neighbours, or than the outside */
  turned: number
  /** pieces that have no two sides (a Moebius strip), so that nothing can be outside */
  oneSided: number
  /** open pieces: their outside is taken as most of their area says */
  open: number
  /** edges of more than two triangles, across which nothing can be told */
  branching: number
}

/** Pieces up to which it is looked at which lies inside of which. */
const NESTED = 60

/**
 * Turns triangles so that each piece of a mesh has one outside. Within a piece neighbours across an edge of two are made to agree
 * (breadth first); a closed piece then looks outwards, a closed piece within an odd number of others (a cavity) inwards, an open one as
 * most of its area did. A mesh that is right is given back as it is. O(N).
 */
export function orient(mesh: Mesh, sides = oppositeSides(mesh)): Oriented {
  const t = mesh.triangles
  const n = t.length / 3
  const pieceOf = new Int32Array(n).fill(-1)
  const flip = new Uint8Array(n)
  const pieces: { list: Int32Array; closed: boolean; sound: boolean }[] = []
  // one queue for all: the triangles of a piece stand together in it
  const queue = new Int32Array(n)
  let [head, tail] = [0, 0]
  let branching = 0
  for (let seed = 0; seed < n; seed++) {
    if (pieceOf[seed] >= 0) continue
    const first = tail
    const p = { list: queue, closed: true, sound: true }
    queue[tail++] = seed
    pieceOf[seed] = pieces.length
    while (head < tail) {
      const i = queue[head++]
      for (let s = 3 * i; s < 3 * i + 3; s++) {
        const o = sides[s]
        if (o < 0) {
          p.closed = false
          if (o === -2) branching++
          continue
        }
        const j = (o / 3) | 0
        // both run from the same corner: one of them lies the other way round
        const unlike = t[s] === t[o] ? 1 : 0
        const want = flip[i] ^ unlike
        if (pieceOf[j] < 0) {
          pieceOf[j] = pieces.length
          flip[j] = want
          queue[tail++] = j
        } else if (flip[j] !== want) p.sound = false
      }
    }
    p.list = queue.subarray(first, tail)
    pieces.push(p)
  }
  const invert = (list: Int32Array) => {
    for (let k = 0; k < list.length; k++) flip[list[k]] ^= 1
  }
  const open = pieces.filter((p) => p.sound && !p.closed)
  const areas = open.length ? triangleAreas(mesh) : new Float64Array(0)
  for (const p of open) if (share(areas, p.list, flip) > 0.5) invert(p.list)
  const closed = pieces.filter((p) => p.sound && p.closed)
  for (const p of closed) if (volume(mesh, p.list, flip) < 0) invert(p.list)
  if (closed.length > 1 && closed.length <= NESTED) {
    const inside = closed.map((p) => {
      const at = middle(mesh, p.list[0])
      return closed.filter((o) => o !== p && surrounds(mesh, o.list, at)).length % 2 === 1
    })
    closed.forEach((p, k) => inside[k] && invert(p.list))
  }
  for (const p of pieces) if (!p.sound) for (const i of p.list) flip[i] = 0
  const turned = flip.reduce((s, v) => s + v, 0)
  const rest = {
    turned,
    oneSided: pieces.filter((p) => !p.sound).length,
    open: open.length,
    branching: Math.round(branching / 3),
  }
  if (turned === 0) return { mesh, ...rest }
  const triangles = new Uint32Array(t)
  for (let i = 0; i < n; i++) if (flip[i]) [triangles[3 * i + 1], triangles[3 * i + 2]] = [triangles[3 * i + 2], triangles[3 * i + 1]]
  // a face turns whole: its triangles all look the way its surface does
  const { faces } = mesh
  const faceTurns = new Uint8Array(mesh.surfaces?.length ?? 0)
  if (faces) for (let i = 0; i < n; i++) if (flip[i]) faceTurns[faces[i]] = 1
  const surfaces = mesh.surfaces?.map((s, f) => (faceTurns[f] ? turnedSurface(s) : s))
  return { mesh: makeMesh({ ...mesh, triangles, surfaces }), ...rest }
}

const corner = (m: Mesh, i: number, k: number, c: number) => m.vertices[3 * m.triangles[3 * i + k] + c]
const middle = (m: Mesh, i: number): number[] => [0, 1, 2].map((c) => (corner(m, i, 0, c) + corner(m, i, 1, c) + corner(m, i, 2, c)) / 3)

/** Six times the volume of a piece, about its own first corner. */
function volume({ vertices: p, triangles: t }: Mesh, list: Int32Array, flip: Uint8Array): number {
  const o = 3 * t[3 * list[0]]
  const [ox, oy, oz] = [p[o], p[o + 1], p[o + 2]]
  let v = 0
  for (let k = 0; k < list.length; k++) {
    const s = 3 * list[k]
    const [a, b, c] = [3 * t[s], 3 * t[s + 1], 3 * t[s + 2]]
    const ax = p[a] - ox
    const ay = p[a + 1] - oy
    const az = p[a + 2] - oz
    const bx = p[b] - ox
    const by = p[b + 1] - oy
    const bz = p[b + 2] - oz
    const cx = p[c] - ox
    const cy = p[c + 1] - oy
    const cz = p[c + 2] - oz
    const d = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
    v += flip[list[k]] ? -d : d
  }
  return v
}

/** Share of a piece's area that would be turned. */
function share(areas: Float64Array, list: Int32Array, flip: Uint8Array): number {
  let [all, part] = [0, 0]
  for (let k = 0; k < list.length; k++) {
    all += areas[list[k]]
    if (flip[list[k]]) part += areas[list[k]]
  }
  return all ? part / all : 0
}

/** Whether a place lies within a closed piece; which way round its triangles lie does not matter. */
function surrounds(m: Mesh, list: Int32Array, at: number[]): boolean {
  const box = [Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity]
  for (const i of list)
    for (let k = 0; k < 3; k++)
      for (let c = 0; c < 3; c++) {
        box[c] = Math.min(box[c], corner(m, i, k, c))
        box[c + 3] = Math.max(box[c + 3], corner(m, i, k, c))
      }
  if ([0, 1, 2].some((c) => at[c] < box[c] || at[c] > box[c + 3])) return false
  const triangles = new Uint32Array(3 * list.length)
  list.forEach((i, place) => triangles.set(m.triangles.subarray(3 * i, 3 * i + 3), 3 * place))
  const w = prepareWinding(buildBvh(makeMesh({ vertices: m.vertices, triangles })))
  return Math.abs(windingNumber(w, at[0], at[1], at[2])) > 0.5
}
