import { f64, u8 } from '../base/arrays.ts'
import { invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import { defineKernel, inFlight, oneThread, type Kernel, type RunContext } from '../base/run.ts'
import { newLocalStrip } from '../shape/localstrip.ts'
import { localSurface, newLocalSurface, type LocalSurface, type SurfaceGrid } from '../shape/localsurface.ts'
import { nearestWithin, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { signAt, type Side } from './side.ts'
import { settleStrip } from './strips.ts'
import { RADII, soundness, SOUND, STRIP } from './support.ts'
import type { Surfels } from './surfels.ts'

/** A pass as the adjustment sees it. */
export interface MatchPass {
  grid: SurfaceGrid
  side: Side
  surfels: Surfels
}

/** Numbers of one match: place and normal in a (local), place and normal in b (local), weight (1/mm^2), share of independent information, lot. */
export const MATCH = 15

/** Places where surface of pass a lies on surface of pass b. */
export interface Matches {
  a: number
  b: number
  data: Float64Array
  count: number
}

interface MatchArgs {
  /** 7 a surfel of the other passes: place and normal in the coordinates of this one, variance */
  surfels: Float64Array
  scale: Uint8Array
  grid: SurfaceGrid
  side: Side
  radius: number
  /** residual up to which the surface of this pass is trusted, and its noise, mm */
  limit: number
  noise: number
  gate: number
  cos: number
}

const OUT = 9
const d2 = new Float64Array(1)

/**
 * For each surfel of other passes the surface of this one at the same place, seen over the same radius: equal smoothing on both sides, so that
 * what smoothing does to a bend cancels. Only surface seen from the same side counts.
 */
export const matchKernel = defineKernel('align.match', (a: MatchArgs, start: number, end: number) => {
  const { surfels: f, grid, side, gate } = a
  const q = newLocalSurface()
  const place = new Float64Array(3)
  const out = new Float64Array((end - start) * OUT)
  let n = 0
  for (let s = start; s < end; s++) {
    const i = 7 * s
    const [nx, ny, nz] = [f[i + 3], f[i + 4], f[i + 5]]
    const r = RADII[a.scale[s]] * a.radius
    const trust = a.scale[s] === STRIP ? stripNear(a, i, place, q) : surfaceNear(a, i, r, place, q)
    if (trust === 0) continue
    if (nx * q.nx + ny * q.ny + nz * q.nz < a.cos) continue
    const x = place[0] + q.height * nx
    const y = place[1] + q.height * ny
    const z = place[2] + q.height * nz
    const d = (f[i] - x) * nx + (f[i + 1] - y) * ny + (f[i + 2] - z) * nz
    if (Math.abs(d) > gate) continue
    let id = 0
    if (!side.viewpoint && side.normals) {
      const k = nearestWithin(grid, x, y, z, r, runsFor2(grid, r), d2)
      if (k < 0) continue
      id = grid.ids[k]
    }
    if (signAt(side, x, y, z, q.nx, q.ny, q.nz, id) < 0) continue
    out[n] = s
    out[n + 1] = x
    out[n + 2] = y
    out[n + 3] = z
    out[n + 4] = q.nx
    out[n + 5] = q.ny
    out[n + 6] = q.nz
    out[n + 7] = f[i + 6] + q.leverage * 0.5 * (q.sigma * q.sigma + a.noise * a.noise)
    out[n + 8] = trust
    n += OUT
  }
  return out.slice(0, n)
})

/** The quadric of this pass beside a surfel, seen from `place`; gives its trust, 0 when there is none. */
function surfaceNear(a: MatchArgs, i: number, r: number, place: Float64Array, q: LocalSurface): number {
  const { surfels: f, grid, gate } = a
  const [nx, ny, nz] = [f[i + 3], f[i + 4], f[i + 5]]
  // a place on this pass's surface to look at it from: the surfel itself when it is near, else the nearest point
  let [x, y, z] = [f[i], f[i + 1], f[i + 2]]
  if (gate > 0.6 * r) {
    const k = nearestWithin(grid, x, y, z, gate, runsFor2(grid, gate), d2)
    if (k < 0) return 0
    // straight above or below the surfel
    const h = (grid.xyz[3 * k] - x) * nx + (grid.xyz[3 * k + 1] - y) * ny + (grid.xyz[3 * k + 2] - z) * nz
    x += h * nx
    y += h * ny
    z += h * nz
  }
  localSurface(grid, x, y, z, r, nx, ny, nz, q)
  if (q.count < 8) return 0
  if (Math.abs(q.height) > 0.05 * r) {
    if (Math.abs(q.height) > r) return 0
    x += q.height * nx
    y += q.height * ny
    z += q.height * nz
    localSurface(grid, x, y, z, r, nx, ny, nz, q)
  }
  place[0] = x
  place[1] = y
  place[2] = z
  return soundness(q, a.limit)
}

const strip = newLocalStrip()
const beside = new Float64Array(6)

/** The same of a narrow face: looked for above and below the surfel, the nearest that is sound. Only once passes lie near. */
function stripNear(a: MatchArgs, i: number, place: Float64Array, q: LocalSurface): number {
  const { surfels: f, gate } = a
  if (gate > 0.5 * a.radius) return 0
  const step = 3 * a.noise
  for (let k = 0; k * step <= gate; k++)
    for (let side = k ? -1 : 1; side < 2; side += 2) {
      for (let c = 0; c < 3; c++) {
        beside[c] = f[i + c] + side * k * step * f[i + 3 + c]
        beside[3 + c] = f[i + 3 + c]
      }
      const trust = settleStrip(a.grid, beside, a.radius, a.noise, a.limit, strip)
      if (trust === 0) continue
      place.set(beside.subarray(0, 3))
      q.height = 0
      q.nx = beside[3]
      q.ny = beside[4]
      q.nz = beside[5]
      q.sigma = strip.sigma
      q.leverage = strip.leverage
      return trust
    }
  return 0
}

let kept: { grid: RowGrid; r: number; runs: Int32Array } | undefined
function runsFor2(grid: RowGrid, r: number): Int32Array {
  if (kept?.grid !== grid || kept.r < r) kept = { grid, r, runs: runsFor(grid, r) }
  return kept.runs
}

/** Passes that are worked on at a time: small ones three, so that no thread waits; of large ones the threads would load one and the other in turn. */
export const lanes = (points: number[]) => (points.reduce((s, n) => s + n, 0) / points.length < 60_000 ? 3 : 1)

/** Least number of matches that a pair of passes needs to count. */
const FEWEST_MATCHES = 12

export interface MatchRound {
  /** largest gap that is still taken as the same surface, mm */
  gate: number
  /** least cosine between the normals of both sides */
  cos: number
  /** every so-manieth surfel only */
  every: number
  radius: number
  /** whether two passes may tell of each other */
  wanted(i: number, j: number): boolean
  /** matches that a pair needs to count; default 12 */
  fewest?: number
}

/** All matches between passes at the given poses. */
export async function findMatches(passes: MatchPass[], poses: Mat4[], boxes: Float64Array[], round: MatchRound, ctx: RunContext): Promise<Matches[]> {
  const found = await inFlight(passes, lanes(passes.map((p) => p.grid.ids.length)), async ({ grid, side, surfels }, j): Promise<Matches[]> => {
    const back = invertRigid(poses[j])
    const others = passes.flatMap((_, i) => {
      if (i === j || !round.wanted(i, j)) return []
      const toJ = multiply(back, poses[i])
      return boxesMeet(boxes[i], toJ, boxes[j], round.gate + round.radius) ? [{ i, toJ }] : []
    })
    if (!others.length) return []
    // all of them at once, so that the threads load this pass once a round
    const { list, ...args } = gather(others, passes, round.every)
    const parts = await ctx.parallel.map(
      matchKernel,
      { ...args, grid, side, radius: round.radius, limit: SOUND * surfels.sigma, noise: surfels.sigma, gate: round.gate, cos: round.cos },
      args.scale.length,
      2048,
      ctx,
    )
    return assemble(parts, others, passes, list, j, round.fewest ?? FEWEST_MATCHES)
  })
  return together(found.flat())
}

/** Pairs that a thread takes at a time. */
export const PAIRS = 8
/** Matches below which it is not worth the trip. */
const FEW = 20_000

/** A kernel over pairs of passes, PAIRS to each result. */
export function overThreads<A, R>(kernel: Kernel<A, R>, args: A, all: Matches[], ctx: RunContext): Promise<R[]> {
  const parallel = all.reduce((s, m) => s + m.count, 0) < FEW ? oneThread : ctx.parallel
  return parallel.map(kernel, args, all.length, PAIRS, { ...ctx, progress: () => undefined })
}

/** In one block of shared memory, so that threads get at all of them at once. */
function together(all: Matches[]): Matches[] {
  const block = f64(MATCH * all.reduce((s, m) => s + m.count, 0))
  let at = 0
  return all.map((m) => {
    const data = block.subarray(at, at + m.data.length)
    data.set(m.data)
    at += m.data.length
    return { ...m, data }
  })
}

interface Other {
  i: number
  toJ: Mat4
}

/** The chosen surfels of several passes, one after the other, in the coordinates of the pass they are matched with. */
function gather(others: Other[], passes: MatchPass[], every: number): { surfels: Float64Array; scale: Uint8Array; list: Int32Array[] } {
  const list = others.map(({ i }) => (every === 1 ? passes[i].surfels.index : passes[i].surfels.index.filter((s) => passes[i].surfels.lots[s] < 1 / every)))
  const total = list.reduce((s, l) => s + l.length, 0)
  const out = f64(7 * total)
  const scale = u8(total)
  let n = 0
  others.forEach(({ i, toJ: m }, k) => {
    const { xyz, normals, variance, scale: own } = passes[i].surfels
    for (const s of list[k]) {
      const [a, o] = [3 * s, 7 * n]
      for (let r = 0; r < 3; r++) {
        out[o + r] = m[4 * r] * xyz[a] + m[4 * r + 1] * xyz[a + 1] + m[4 * r + 2] * xyz[a + 2] + m[4 * r + 3]
        out[o + 3 + r] = m[4 * r] * normals[a] + m[4 * r + 1] * normals[a + 1] + m[4 * r + 2] * normals[a + 2]
      }
      out[o + 6] = variance[s]
      scale[n++] = own[s]
    }
  })
  return { surfels: out, scale, list }
}

/** What the kernel found, sorted out by pass. */
function assemble(parts: Float64Array[], others: Other[], passes: MatchPass[], list: Int32Array[], j: number, fewest: number): Matches[] {
  const out: Matches[] = []
  let part = 0
  let at = 0
  let from = 0
  others.forEach(({ i }, k) => {
    const until = from + list[k].length
    const { xyz, normals, share, lots } = passes[i].surfels
    const data = new Float64Array(list[k].length * MATCH)
    let count = 0
    for (;;) {
      while (part < parts.length && at >= parts[part].length) {
        part++
        at = 0
      }
      if (part >= parts.length || parts[part][at] >= until) break
      const f = parts[part]
      const s = list[k][f[at] - from]
      const o = count * MATCH
      for (let c = 0; c < 3; c++) {
        data[o + c] = xyz[3 * s + c]
        data[o + 3 + c] = normals[3 * s + c]
      }
      for (let c = 0; c < 6; c++) data[o + 6 + c] = f[at + 1 + c]
      data[o + 12] = 1 / Math.max(f[at + 7], 1e-300)
      data[o + 13] = share[s] * f[at + 8]
      data[o + 14] = lots[s]
      count++
      at += OUT
    }
    if (count >= fewest) out.push({ a: i, b: j, data: data.subarray(0, count * MATCH), count })
    from = until
  })
  return out
}

/** Whether box a, brought to b's coordinates, comes within `margin` of box b: by the box of its corners. */
function boxesMeet(a: Float64Array, toB: Mat4, b: Float64Array, margin: number): boolean {
  for (let k = 0; k < 3; k++) {
    let middle = toB[4 * k + 3]
    let half = 0
    for (let c = 0; c < 3; c++) {
      middle += (toB[4 * k + c] * (a[c] + a[c + 3])) / 2
      half += (Math.abs(toB[4 * k + c]) * (a[c + 3] - a[c])) / 2
    }
    if (middle - half > b[k + 3] + margin || middle + half < b[k] - margin) return false
  }
  return true
}
