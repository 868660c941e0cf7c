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
import { balanceByNormal, independentShare, OFF_CENTRE, SCALES, SOUND, surfelBuffers, surfelKernel } from './surfels.ts'

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
  /** surfels of pass a */
  xyz: Float32Array
  normals: Float32Array
  scale: Uint8Array
  index: Int32Array
  /** a local to b local */
  toB: Mat4
  gridB: RowGrid
  radius: number
  soundB: number
  gate: number
  cos: number
}

const CANDIDATES = 7

/** For each surfel of pass a the plane of pass b at the same place, with the same radius: equal smoothing on both sides, so that curvature cancels. */
const match = defineKernel('align.match', (a: MatchArgs, start: number, end: number) => {
  const { xyz, normals, index, toB: m, gridB, radius } = a
  const q = newLocalPlane()
  const out = new Float64Array((end - start) * 7)
  let n = 0
  for (let s = start; s < end; s++) {
    const i = 3 * index[s]
    const x = m[0] * xyz[i] + m[1] * xyz[i + 1] + m[2] * xyz[i + 2] + m[3]
    const y = m[4] * xyz[i] + m[5] * xyz[i + 1] + m[6] * xyz[i + 2] + m[7]
    const z = m[8] * xyz[i] + m[9] * xyz[i + 1] + m[10] * xyz[i + 2] + m[11]
    const r = SCALES[a.scale[index[s]]] * radius
    localPlane(gridB, x, y, z, r, q)
    if (q.count < 8 || q.breadth < 0.25 || q.sigma > a.soundB) continue
    const nx = m[0] * normals[i] + m[1] * normals[i + 1] + m[2] * normals[i + 2]
    const ny = m[4] * normals[i] + m[5] * normals[i + 1] + m[6] * normals[i + 2]
    const nz = m[8] * normals[i] + m[9] * normals[i + 1] + m[10] * normals[i + 2]
    const c = nx * q.nx + ny * q.ny + nz * q.nz
    if (Math.abs(c) < a.cos) continue
    const ox = x - q.cx
    const oy = y - q.cy
    const oz = z - q.cz
    const d = ox * q.nx + oy * q.ny + oz * q.nz
    if (Math.abs(d) > a.gate) continue
    const tx = ox - d * q.nx
    const ty = oy - d * q.ny
    const tz = oz - d * q.nz
    if (tx * tx + ty * ty + tz * tz > (OFF_CENTRE * r) ** 2) continue
    const f = c < 0 ? -1 : 1
    out[n] = index[s]
    out[n + 1] = x - d * q.nx
    out[n + 2] = y - d * q.ny
    out[n + 3] = z - d * q.nz
    out[n + 4] = f * q.nx
    out[n + 5] = f * q.ny
    out[n + 6] = f * q.nz
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
  const surfels = []
  for (let i = 0; i < n; i++) {
    // the noise first, from a sparse sample; then the surfels that are sound by it
    const probe = surfelBuffers(grids[i], 2000, radius)
    await ctx.parallel.map(surfelKernel, probe, probe.samples, 1024, ctx)
    const b = surfelBuffers(grids[i], CANDIDATES * samples, radius)
    const finite = Array.from(probe.sigmas).filter((s) => s < Infinity)
    const sigma = finite.length ? median(finite) : 0
    b.limit = SOUND * sigma
    await ctx.parallel.map(surfelKernel, b, b.samples, 1024, ctx)
    const index = balanceByNormal(b.normals, b.good, samples)
    const weight = independentShare(b.xyz, b.scale, index, radius)
    surfels.push({ xyz: b.xyz, normals: b.normals, scale: b.scale, weight, sigma, index })
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

  const gates: { gate: number; cos: number; share: number }[] = []
  for (let g = gateStart; g > gateEnd * 1.01; g *= 0.45) gates.push({ gate: g, cos: g > 1 ? 0.95 : 0.98, share: 0.25 })
  gates.push({ gate: Math.max(0.5, gateEnd), cos: 0.99, share: 0.5 }, { gate: gateEnd, cos: 0.99, share: 1 }, { gate: gateEnd, cos: 0.99, share: 1 })

  let all: Matches[] = []
  let solved: Solution | undefined
  for (let round = 0; round < gates.length; round++) {
    const { gate, cos, share } = gates[round]
    all = []
    for (let i = 0; i < n; i++) {
      const every = Math.round(1 / share)
      const index = every === 1 ? surfels[i].index : surfels[i].index.filter((_, k) => k % every === 0)
      for (let j = 0; j < n; j++) {
        // passes of one rigid group tell nothing about each other's place, nor do two that both stay put
        if (i === j || (m > 0 && slotOf[i] === slotOf[j])) continue
        const toB = multiply(invertRigid(poses[j]), poses[i])
        if (!boxesMeet(boxes[i], toB, boxes[j], gate + radius)) continue
        const args: MatchArgs = {
          xyz: surfels[i].xyz,
          normals: surfels[i].normals,
          scale: surfels[i].scale,
          index,
          toB,
          gridB: grids[j],
          radius,
          soundB: SOUND * surfels[j].sigma,
          gate,
          cos,
        }
        const parts = await ctx.parallel.map(match, args, index.length, 1024, ctx)
        const count = parts.reduce((s, p) => s + p.length / 7, 0)
        if (count < 20) continue
        const data = new Float64Array(count * MATCH)
        let o = 0
        for (const p of parts)
          for (let k = 0; k < p.length; k += 7) {
            const s = 3 * p[k]
            const { xyz, normals } = surfels[i]
            for (let c = 0; c < 3; c++) {
              data[o + c] = xyz[s + c]
              data[o + 3 + c] = normals[s + c]
              data[o + 6 + c] = p[k + 1 + c]
              data[o + 9 + c] = p[k + 4 + c]
            }
            data[o + 12] = surfels[i].weight[p[k]]
            o += MATCH
          }
        all.push({ a: i, b: j, data, count })
      }
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
      solved = solve(all, poses, slotOf, m, centre, scale, bound)
      bound *= last ? 0.6 : 0.8
      const largestStep = applyStep(solved.step, poses, slotOf, centre, scale)
      if (largestStep < 1e-6 && bound < 1e-3) break
    }
    ctx.progress(0.2 + (0.8 * (round + 1)) / gates.length, `round ${round + 1} of ${gates.length}`)
  }
  return report(passes, poses, all, slotOf, solved as Solution, centre, scale, boxes, gates.length)
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
