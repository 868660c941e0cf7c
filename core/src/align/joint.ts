import { f64, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { invertRigid, multiply, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, defineKernel, type RunContext } from '../base/run.ts'
import { median } from '../base/stats.ts'
import { localPlane, newLocalPlane } from '../shape/localplane.ts'
import { boundingBox, boxDiagonal, type Placed, type Points } from '../shape/points.ts'
import { pointSpacing } from '../shape/spacing.ts'
import { buildRowGrid, type RowGrid } from '../space/rowgrid.ts'
import { report, type JointResult } from './jointreport.ts'
import { applyStep, MATCH, solve, type Matches, type Solution } from './jointsolve.ts'
import { balanceByNormal, independentShare, OFF_CENTRE, SCALES, SOUND, surfelBuffers, surfelKernel, type SurfelBuffers } from './surfels.ts'

export interface JointOptions {
  /** passes that stay put; default the first */
  anchors?: number[]
  /** radius of the local planes, mm; default 4.4 point spacings */
  radius?: number
  /** surfels a pass in the last rounds, chosen by direction from CANDIDATES times as many */
  samples?: number
  /** largest gap between two passes that is still taken as the same surface, mm: first and last round */
  gateStart?: number
  gateEnd?: number
  /** passes that move together (the setup of each pass); default each on its own */
  groups?: number[]
}

interface MatchArgs {
  /** 6 a surfel of the other passes: place and normal, in the coordinates of this one */
  surfels: Float64Array
  scale: Uint8Array
  grid: RowGrid
  radius: number
  sound: number
  gate: number
  cos: number
}

const CANDIDATES = 7
/**
 * However small the noise, walls of bores and rounds are so much (shares of the spacing) off their local planes, and the planes themselves so
 * much off the wall. Judged by the spread on flat faces alone, the walls of an almost noiseless scan would be thrown out, and with them all
 * that holds some directions. Measured on a plate with bores, 0.35 mm spacing, 0.01 mm noise: error predicted 0.029 mm without, 0.0043 with,
 * true 0.0043; at 0.02 mm noise true 0.013 mm without, 0.0037 with. A smoothness of 0.06 instead: 0.0055.
 */
const SMOOTH = 0.04
const FLOOR = 0.005

/** For each surfel of other passes the plane of this pass at the same place, with the same radius: equal smoothing on both sides, so that curvature cancels. */
const match = defineKernel('align.match', (a: MatchArgs, start: number, end: number) => {
  const { surfels: f, grid } = a
  const q = newLocalPlane()
  const out = new Float64Array((end - start) * 7)
  let n = 0
  for (let s = start; s < end; s++) {
    const i = 6 * s
    const r = SCALES[a.scale[s]] * a.radius
    localPlane(grid, f[i], f[i + 1], f[i + 2], r, q)
    if (q.count < 8 || q.breadth < 0.25 || q.sigma > a.sound) continue
    const c = f[i + 3] * q.nx + f[i + 4] * q.ny + f[i + 5] * q.nz
    if (Math.abs(c) < a.cos) continue
    const ox = f[i] - q.cx
    const oy = f[i + 1] - q.cy
    const oz = f[i + 2] - q.cz
    const d = ox * q.nx + oy * q.ny + oz * q.nz
    if (Math.abs(d) > a.gate) continue
    const tx = ox - d * q.nx
    const ty = oy - d * q.ny
    const tz = oz - d * q.nz
    if (tx * tx + ty * ty + tz * tz > (OFF_CENTRE * r) ** 2) continue
    const sign = c < 0 ? -1 : 1
    out[n] = s
    out[n + 1] = f[i] - d * q.nx
    out[n + 2] = f[i + 1] - d * q.ny
    out[n + 3] = f[i + 2] - d * q.nz
    out[n + 4] = sign * q.nx
    out[n + 5] = sign * q.ny
    out[n + 6] = sign * q.nz
    n += 7
  }
  return out.slice(0, n)
})

/**
 * Brings all passes together at once: one Gauss-Newton over the poses of all passes but the anchors, over all
 * overlapping pairs, with a symmetric plane-to-plane error (Chen and Medioni 1991; Rusinkiewicz 2019) and Tukey's
 * weights (Beaton and Tukey 1974). Pairs are found anew in a few rounds with a narrowing gate.
 *
 * passes: points with poses good to about `gateStart`. Options in mm. Points are never rewritten: the result is poses.
 * Free motions (turned, flat, sliding parts) are reported per pass and held at their start instead of drifting.
 * Throws OakError 'no-overlap' when no pair of passes meets at all; passes that meet nobody are listed in `apart`.
 *
 * Tried on the eight-pass bracket, rms of the underside passes to truth: pass by pass 0.049 mm, plain joint 0.162,
 * soundness of the planes alone 0.0047, everything here 0.003 and better.
 */
export async function adjustJointly(passes: Placed<Points>[], options: JointOptions, ctx: RunContext): Promise<JointResult> {
  const n = passes.length
  if (n < 2) throw new OakError('one-pass', 'There is only one pass, nothing to adjust.', { remedy: 'Bring in a second pass, or go on to the merge.' })
  const groups = options.groups ?? passes.map((_, i) => i)
  const anchors = new Set((options.anchors ?? [0]).map((i) => groups[i]))
  const spacing = median(passes.map((p) => pointSpacing(p.data.xyz, 500)))
  const radius = options.radius ?? 4.4 * spacing
  const samples = options.samples ?? 8000
  const gateEnd = options.gateEnd ?? Math.max(0.3, 1.3 * spacing)
  const gateStart = Math.max(options.gateStart ?? 2.5, gateEnd)
  ctx.progress(0, 'search structures')
  const grids: RowGrid[] = []
  for (const p of passes) {
    grids.push(buildRowGrid(p.data.xyz, radius))
    checkCancelled(ctx)
  }

  // surfels, all in one go; early rounds take a sparse part of them
  const surfels: Surfels[] = []
  for (let i = 0; i < n; i++) {
    // the noise first, from a sparse sample; then the surfels that are sound by it
    const probe = surfelBuffers(grids[i], 2000, radius)
    await ctx.parallel.map(surfelKernel, probe, probe.samples, 1024, ctx)
    const b = surfelBuffers(grids[i], CANDIDATES * samples, radius)
    const finite = Array.from(probe.sigmas).filter((s) => s < Infinity)
    const sigma = Math.max(finite.length ? median(finite) : 0, SMOOTH * spacing)
    b.limit = SOUND * sigma
    await ctx.parallel.map(surfelKernel, b, b.samples, 1024, ctx)
    const index = balanceByNormal(b.normals, b.good, samples)
    const weight = independentShare(b.xyz, b.scale, index, radius)
    surfels.push({ ...b, weight, sigma, index })
    ctx.progress((0.2 * (i + 1)) / n, 'surface elements')
  }

  const poses: Mat4[] = passes.map((p) => Float64Array.from(p.pose))
  const boxes = passes.map((p) => boundingBox(p.data.xyz))
  const unknown = [...new Set(groups)].filter((g) => !anchors.has(g))
  const slot = new Map(unknown.map((g, i) => [g, i]))
  const slotOf = passes.map((_, i) => slot.get(groups[i]) ?? -1)
  const m = unknown.length
  const centre = jobCentre(passes, poses)
  const scale = Math.max(...boxes.map((b) => boxDiagonal(b))) / 4 || 1

  const floor = FLOOR * spacing
  const gates: { gate: number; cos: number; share: number }[] = []
  for (let g = gateStart; g > gateEnd * 1.01; g *= 0.45) gates.push({ gate: g, cos: g > 1 ? 0.95 : 0.98, share: 0.25 })
  gates.push({ gate: Math.max(0.5, gateEnd), cos: 0.99, share: 0.5 }, { gate: gateEnd, cos: 0.99, share: 1 }, { gate: gateEnd, cos: 0.99, share: 1 })

  let all: Matches[] = []
  let solved: Solution | undefined
  for (let round = 0; round < gates.length; round++) {
    const { gate, cos, share } = gates[round]
    all = []
    const every = Math.round(1 / share)
    const index = surfels.map((f) => (every === 1 ? f.index : f.index.filter((_, k) => k % every === 0)))
    for (let j = 0; j < n; j++) {
      // passes of one rigid group tell nothing about each other's place, nor do two that both stay put
      const others = surfels.flatMap((_, i) => {
        if (i === j || (m > 0 && slotOf[i] === slotOf[j])) return []
        const toJ = multiply(invertRigid(poses[j]), poses[i])
        return boxesMeet(boxes[i], toJ, boxes[j], gate + radius) ? [{ i, toJ }] : []
      })
      // all of them at once, so that the threads load this pass once a round
      const args: MatchArgs = { ...gather(others, surfels, index), grid: grids[j], radius, sound: SOUND * surfels[j].sigma, gate, cos }
      const parts = await ctx.parallel.map(match, args, args.scale.length, 2048, ctx)
      all.push(...matchesOf(parts, others, surfels, index, j))
    }
    if (all.length === 0)
      throw new OakError('no-overlap', 'No two passes share any surface.', {
        remedy: 'Bring the setups together by picked pairs first, or check that the passes show the same part.',
      })
    // Tukey's bound is lowered step by step (Blake and Zisserman 1987). Set at once from the residuals' spread it throws
    // out the few faces that hold a weak direction, since they alone show a gap: measured 0.034 mm off, sideways.
    const last = round === gates.length - 1
    let bound = 2 * gate
    for (let it = 0; it < (last ? 14 : 5); it++) {
      checkCancelled(ctx)
      solved = solve(all, poses, slotOf, m, centre, scale, Math.max(bound, 4.685 * floor))
      bound *= last ? 0.6 : 0.8
      const largestStep = applyStep(solved.step, poses, slotOf, centre, scale)
      if (largestStep < 1e-6 && bound < 1e-3) break
    }
    ctx.progress(0.2 + (0.8 * (round + 1)) / gates.length, `round ${round + 1} of ${gates.length}`)
  }
  return report(passes, poses, all, slotOf, solved as Solution, centre, scale, boxes, gates.length, floor)
}

type Surfels = SurfelBuffers & { weight: Float32Array; sigma: number; index: Int32Array }
type Other = { i: number; toJ: Mat4 }

/** The chosen surfels of several passes, one after the other, in the coordinates of the pass they are matched with. */
function gather(others: Other[], surfels: Surfels[], index: Int32Array[]): { surfels: Float64Array; scale: Uint8Array } {
  const total = others.reduce((s, o) => s + index[o.i].length, 0)
  const out = f64(6 * total)
  const scale = u8(total)
  let n = 0
  for (const { i, toJ: m } of others) {
    const { xyz, normals } = surfels[i]
    for (const s of index[i]) {
      const [a, o] = [3 * s, 6 * n]
      for (let r = 0; r < 3; r++) {
        out[o + r] = m[4 * r] * xyz[a] + m[4 * r + 1] * xyz[a + 1] + m[4 * r + 2] * xyz[a + 2] + m[4 * r + 3]
        out[o + 3 + r] = m[4 * r] * normals[a] + m[4 * r + 1] * normals[a + 1] + m[4 * r + 2] * normals[a + 2]
      }
      scale[n++] = surfels[i].scale[s]
    }
  }
  return { surfels: out, scale }
}

/** What the kernel found, sorted out by pass; pairs of fewer than 20 matches are left out. */
function matchesOf(parts: Float64Array[], others: Other[], surfels: Surfels[], index: Int32Array[], j: number): Matches[] {
  const out: Matches[] = []
  const found = parts.flatMap((p) => Array.from({ length: p.length / 7 }, (_, k) => p.subarray(7 * k, 7 * k + 7)))
  let at = 0
  let from = 0
  for (const { i } of others) {
    const until = from + index[i].length
    const first = at
    while (at < found.length && found[at][0] < until) at++
    const count = at - first
    if (count >= 20) {
      const { xyz, normals, weight } = surfels[i]
      const data = new Float64Array(count * MATCH)
      for (let k = 0; k < count; k++) {
        const f = found[first + k]
        const s = index[i][f[0] - from]
        data.set(xyz.subarray(3 * s, 3 * s + 3), k * MATCH)
        data.set(normals.subarray(3 * s, 3 * s + 3), k * MATCH + 3)
        data.set(f.subarray(1), k * MATCH + 6)
        data[k * MATCH + 12] = weight[s]
      }
      out.push({ a: i, b: j, data, count })
    }
    from = until
  }
  return out
}

function jobCentre(passes: Placed<Points>[], poses: Mat4[]): [number, number, number] {
  const c: [number, number, number] = [0, 0, 0]
  passes.forEach((p, i) => {
    const b = boundingBox(p.data.xyz)
    const q = transformPoint(poses[i], (b[0] + b[3]) / 2, (b[1] + b[4]) / 2, (b[2] + b[5]) / 2)
    for (let k = 0; k < 3; k++) c[k] += q[k] / passes.length
  })
  return c
}

function boxesMeet(a: Float64Array, toB: Mat4, b: Float64Array, margin: number): boolean {
  const lo = [Infinity, Infinity, Infinity]
  const hi = [-Infinity, -Infinity, -Infinity]
  for (let c = 0; c < 8; c++) {
    const p = transformPoint(toB, a[c & 1 ? 3 : 0], a[c & 2 ? 4 : 1], a[c & 4 ? 5 : 2])
    for (let k = 0; k < 3; k++) {
      lo[k] = Math.min(lo[k], p[k])
      hi[k] = Math.max(hi[k], p[k])
    }
  }
  return [0, 1, 2].every((k) => lo[k] <= b[k + 3] + margin && hi[k] >= b[k] - margin)
}
