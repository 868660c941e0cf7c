import { f32, u32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import { makeMesh, triangleNormal, type Mesh } from '../shape/mesh.ts'
import { borderLoops, oppositeSides } from '../shape/topology.ts'

export interface GapOptions {
  /** largest gap closed, mm across; default 5 */
  size?: number
}

export interface GapResult {
  mesh: Mesh
  closed: number
  left: number
  /** mm across, 0 when none is left */
  largestLeft: number
  /** area filled, mm2 */
  area: number
}

/** Borders with more corners take too long for the exact triangulation (n^3), and are no small gaps any more. */
const MOST_CORNERS = 700
const ROUNDS = 12

/**
 * Closes small gaps of a mesh: of all ways to span each border by triangles the one of least area (Barequet and Sharir 1995), divided
 * until its edges are as long as the border's, and smoothed as a membrane (after Liepa 2003). What is measured is not touched; what is
 * filled is flagged not measured. Larger borders stay open: they are holes of the part, or want another pass. So does the rim of a sheet.
 * Throws OakError 'bad-setting' when the size is not above 0 mm.
 */
export function closeGaps(mesh: Mesh, options: GapOptions, ctx: RunContext, sides = oppositeSides(mesh)): GapResult {
  const size = options.size ?? 5
  if (!(size > 0)) throw new OakError('bad-setting', 'The size of the gaps must be above 0 mm.')
  const loops = borderLoops(mesh, sides)
  const across = loops.map((loop) => widthOf(mesh.vertices, loop))
  const small = (k: number) => across[k] <= size && loops[k].length >= 3 && loops[k].length <= MOST_CORNERS
  // the triangle beside each corner of a small border; of large ones nothing is kept: a scan may have a hundred thousand corners on its rim
  const beside = new Int32Array(mesh.vertices.length / 3).fill(-1)
  loops.forEach((loop, k) => small(k) && loop.forEach((v) => (beside[v] = 0)))
  for (let s = 0; s < sides.length; s++) if (sides[s] === -1 && beside[mesh.triangles[s]] >= 0) beside[mesh.triangles[s]] = (s / 3) | 0
  const joined = edgesBetween(mesh, beside)
  const vertices: number[] = []
  const triangles: number[] = []
  const tints: number[] = []
  let [closed, left, largestLeft, area] = [0, 0, 0, 0]
  const base = mesh.vertices.length / 3
  loops.forEach((loop, k) => {
    checkCancelled(ctx)
    if (!small(k) || new Set(loop).size < loop.length) {
      left++
      largestLeft = Math.max(largestLeft, across[k])
      return
    }
    // the border runs along the triangles that are there; the filling runs the other way
    const ring = [...loop].reverse()
    const has: Joined = (a, b) => joined.has(edgeKey(ring[a], ring[b]))
    const patch = span(mesh.vertices, ring, has)
    if (foldsBack(mesh, patch, ring, beside)) {
      left++
      largestLeft = Math.max(largestLeft, across[k])
      return
    }
    refine(patch, ring.length, has)
    relax(patch, ring.length)
    const first = base + vertices.length / 3
    for (let i = 3 * ring.length; i < patch.p.length; i++) {
      vertices.push(patch.p[i])
      // the mean colour of the border
      if (mesh.colours) tints.push(ring.reduce((s, v) => s + (mesh.colours as Uint8Array)[3 * v + (i % 3)] / ring.length, 0))
    }
    for (const v of patch.t) triangles.push(v < ring.length ? ring[v] : first + v - ring.length)
    for (let i = 0; i < patch.t.length; i += 3) area += areaOf(patch.p, patch.t[i], patch.t[i + 1], patch.t[i + 2])
    closed++
    ctx.progress((k + 1) / loops.length, 'gaps')
  })
  if (!closed) return { mesh, closed, left, largestLeft, area }
  const v = f32(mesh.vertices.length + vertices.length)
  v.set(mesh.vertices)
  v.set(vertices, mesh.vertices.length)
  const t = u32(mesh.triangles.length + triangles.length)
  t.set(mesh.triangles)
  t.set(triangles, mesh.triangles.length)
  const unmeasured = u8(t.length / 3).fill(1, mesh.triangles.length / 3)
  if (mesh.unmeasured) unmeasured.set(mesh.unmeasured)
  const colours = mesh.colours && u8(v.length)
  if (colours && mesh.colours) {
    colours.set(mesh.colours)
    colours.set(tints.map(Math.round), mesh.colours.length)
  }
  return { mesh: makeMesh({ vertices: v, triangles: t, unmeasured, colours }), closed, left, largestLeft, area }
}

interface Patch {
  p: number[]
  t: number[]
}

/** Whether the filling would lie back to back on what is there: the border is the rim of a sheet, and no gap. */
function foldsBack(mesh: Mesh, patch: Patch, ring: number[], beside: Int32Array): boolean {
  const n = ring.length
  let [sum, count] = [0, 0]
  for (let i = 0; i < patch.t.length; i++) {
    const from = patch.t[i]
    const to = patch.t[i - (i % 3) + ((i + 1) % 3)]
    // a side of the filling that lies on the border, and the triangle on the border's other side
    const other = from < n && to === (from + 1) % n ? beside[ring[to]] : -1
    if (other < 0) continue
    const [a, b] = [triangleNormal(patch.p, patch.t, Math.floor(i / 3)), triangleNormal(mesh.vertices, mesh.triangles, other)]
    sum += a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
    count++
  }
  return sum < -0.8 * count
}

/** Twice the distance from the border's middle to its furthest corner, mm. */
function widthOf(v: Float32Array, loop: Int32Array): number {
  const c = [0, 1, 2].map((k) => loop.reduce((s, i) => s + v[3 * i + k] / loop.length, 0))
  return 2 * loop.reduce((most, i) => Math.max(most, Math.hypot(v[3 * i] - c[0], v[3 * i + 1] - c[1], v[3 * i + 2] - c[2])), 0)
}

function areaOf(p: ArrayLike<number>, a: number, b: number, c: number): number {
  const ux = p[3 * b] - p[3 * a],
    uy = p[3 * b + 1] - p[3 * a + 1],
    uz = p[3 * b + 2] - p[3 * a + 2]
  const wx = p[3 * c] - p[3 * a],
    wy = p[3 * c + 1] - p[3 * a + 1],
    wz = p[3 * c + 2] - p[3 * a + 2]
  return Math.hypot(uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx) / 2
}

/** Whether two corners of the ring are joined by an edge of the mesh already: another one there would be shared by four triangles. */
type Joined = (a: number, b: number) => boolean

const edgeKey = (a: number, b: number) => (a < b ? a * 2 ** 26 + b : b * 2 ** 26 + a)

/** Edges of the mesh between vertices of its borders. */
function edgesBetween(mesh: Mesh, border: Int32Array): Set<number> {
  const out = new Set<number>()
  const t = mesh.triangles
  for (let s = 0; s < t.length; s++) {
    if (border[t[s]] < 0) continue
    const b = t[s - (s % 3) + ((s + 1) % 3)]
    if (border[b] >= 0) out.add(edgeKey(t[s], b))
  }
  return out
}

/** More than any area. */
const NEVER = 1e15

/** Triangulation of a ring of least area, by dynamic programming over its chains; about its middle where there is none without an edge that is there already. */
function span(v: Float32Array, ring: number[], joined: Joined): Patch {
  const n = ring.length
  const p = ring.flatMap((i) => [v[3 * i], v[3 * i + 1], v[3 * i + 2]])
  const chord = (i: number, j: number) => (j - i > 1 && j - i < n - 1 && joined(i, j) ? NEVER : 0)
  const least = new Float64Array(n * n)
  const cut = new Int32Array(n * n)
  for (let step = 2; step < n; step++)
    for (let i = 0; i + step < n; i++) {
      const j = i + step
      let best = Infinity
      for (let k = i + 1; k < j; k++) {
        const w = least[i * n + k] + least[k * n + j] + areaOf(p, i, k, j) + chord(i, k) + chord(k, j)
        if (w < best) {
          best = w
          cut[i * n + j] = k
        }
      }
      least[i * n + j] = best
    }
  const t: number[] = []
  if (least[n - 1] >= NEVER) {
    for (let k = 0; k < 3; k++) p.push(ring.reduce((s, _, i) => s + p[3 * i + k] / n, 0))
    for (let i = 0; i < n; i++) t.push(i, (i + 1) % n, n)
    return { p, t }
  }
  const chains: [number, number][] = [[0, n - 1]]
  for (let chain = chains.pop(); chain; chain = chains.pop()) {
    const [i, j] = chain
    if (j - i < 2) continue
    const k = cut[i * n + j]
    t.push(i, k, j)
    chains.push([i, k], [k, j])
  }
  return { p, t }
}

/** Halves inner edges that are longer than the border's, and turns those that make slim triangles, until the filling is as fine as its border. */
function refine(patch: Patch, border: number, there: Joined): void {
  const { p, t } = patch
  const length = (a: number, b: number) => Math.hypot(p[3 * a] - p[3 * b], p[3 * a + 1] - p[3 * b + 1], p[3 * a + 2] - p[3 * b + 2])
  const n = border
  let mean = 0
  for (let i = 0; i < n; i++) mean += length(i, (i + 1) % n) / n
  for (let round = 0; round < ROUNDS; round++) {
    const long = innerEdges(t)
      .filter((e) => length(e.a, e.b) > 1.5 * mean)
      .sort((x, y) => length(y.a, y.b) - length(x.a, x.b))
    const touched = new Set<number>()
    for (const e of long) {
      if (touched.has(e.left) || touched.has(e.right)) continue
      touched.add(e.left).add(e.right)
      const m = p.length / 3
      for (let k = 0; k < 3; k++) p.push((p[3 * e.a + k] + p[3 * e.b + k]) / 2)
      // (a, b, c) and (b, a, d) become four around m
      const c = third(t, e.left, e.a, e.b)
      const d = third(t, e.right, e.a, e.b)
      t.splice(3 * e.left, 3, e.a, m, c)
      t.splice(3 * e.right, 3, e.b, m, d)
      t.push(m, e.b, c, m, e.a, d)
    }
    turn(patch, border, there)
    if (!long.length) break
  }
}

interface Edge {
  a: number
  b: number
  /** triangle in which the edge runs from a to b, and the one in which it runs back */
  left: number
  right: number
}

function innerEdges(t: number[]): Edge[] {
  const at = new Map<string, number>()
  for (let i = 0; i < t.length; i++) at.set(`${t[i]} ${t[i - (i % 3) + ((i + 1) % 3)]}`, Math.floor(i / 3))
  const out: Edge[] = []
  for (const [key, left] of at) {
    const [a, b] = key.split(' ').map(Number)
    const right = at.get(`${b} ${a}`)
    if (a < b && right !== undefined) out.push({ a, b, left, right })
  }
  return out
}

const third = (t: number[], i: number, a: number, b: number) => [t[3 * i], t[3 * i + 1], t[3 * i + 2]].find((v) => v !== a && v !== b) as number

/** Turns inner edges whose opposite angles add up to more than half a circle (Delaunay's rule). */
function turn({ p, t }: Patch, border: number, there: Joined): void {
  const angle = (at: number, a: number, b: number) => {
    const u = [0, 1, 2].map((k) => p[3 * a + k] - p[3 * at + k])
    const w = [0, 1, 2].map((k) => p[3 * b + k] - p[3 * at + k])
    const c = (u[0] * w[0] + u[1] * w[1] + u[2] * w[2]) / (Math.hypot(...u) * Math.hypot(...w) || 1)
    return Math.acos(Math.max(-1, Math.min(1, c)))
  }
  const touched = new Set<number>()
  const edges = innerEdges(t)
  const joined = new Set(edges.map((e) => `${e.a} ${e.b}`))
  for (const e of edges) {
    if (touched.has(e.left) || touched.has(e.right)) continue
    const c = third(t, e.left, e.a, e.b)
    const d = third(t, e.right, e.a, e.b)
    if (
      angle(c, e.a, e.b) + angle(d, e.a, e.b) <= Math.PI + 1e-6 ||
      joined.has(`${Math.min(c, d)} ${Math.max(c, d)}`) ||
      (c < border && d < border && there(c, d))
    )
      continue
    touched.add(e.left).add(e.right)
    t.splice(3 * e.left, 3, c, e.a, d)
    t.splice(3 * e.right, 3, d, e.b, c)
  }
}

/** Inner points to the mean of their neighbours, again and again: a membrane in the frame of the border. */
function relax({ p, t }: Patch, border: number): void {
  const n = p.length / 3
  const around: Set<number>[] = Array.from({ length: n }, () => new Set())
  for (let i = 0; i < t.length; i++) {
    const a = t[i]
    const b = t[i - (i % 3) + ((i + 1) % 3)]
    around[a].add(b)
    around[b].add(a)
  }
  for (let round = 0; round < 60; round++)
    for (let i = border; i < n; i++)
      for (let k = 0; k < 3; k++) {
        let s = 0
        for (const j of around[i]) s += p[3 * j + k]
        p[3 * i + k] = s / around[i].size
      }
}
