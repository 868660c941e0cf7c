import { OakError } from '../base/errors.ts'
import { invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, subProgress, type RunContext } from '../base/run.ts'
import type { Placed, Points } from '../shape/points.ts'
import { freeMotions, type FreeMotion } from './freemotion.ts'
import { prepare, settle, unknownsOf } from './joint.ts'
import { findMatches } from './match.ts'
import { gaps } from './normalequations.ts'

/** A pose of the loose side that was settled and looked at as finely as the points allow. */
export interface Confirmed {
  /** moves the loose side, settled */
  move: Mat4
  /** of the surface that has surface of the other side beside it, looking the same way, the share that lies on it */
  agree: number
  /** places that lie on surface of the other side */
  count: number
  /** motions of the loose side that the common surface does not hold: along them the pose is a guess */
  free: FreeMotion[]
}

/** Surface within so many radii of comparison counts as beside, and within this share of it as the same. */
const BESIDE = 1
const SAME = 0.25

/**
 * Looks at candidate moves of the loose side by surfaces as small as the points allow (joint.ts), where thinned clouds confuse a step with a face: each is
 * settled with both sides whole, then judged by how much of what lies beside the other side also lies on it. A wrong pose of a nearly repeating
 * part has faces just beside one another. Candidates that nothing holds together come back with `agree` 0.
 */
export async function confirmPoses(anchor: Placed<Points>[], loose: Placed<Points>[], candidates: Mat4[], ctx: RunContext): Promise<Confirmed[]> {
  const setups = [...anchor.map(() => 0), ...loose.map(() => 1)]
  const job = await prepare([...anchor, ...loose], { setups, samples: 1000 }, subProgress(ctx, 0, 0.5))
  const start = job.poses.map((p): Mat4 => Float64Array.from(p))
  const first = anchor.length
  const out: Confirmed[] = []
  for (const [k, c] of candidates.entries()) {
    checkCancelled(ctx)
    for (let i = 0; i < start.length; i++) job.poses[i] = i < first ? Float64Array.from(start[i]) : multiply(c, start[i])
    job.unknowns = unknownsOf(
      job,
      setups.map((s) => s - 1),
      1,
    )
    try {
      const solved = await settle(job, undefined, 2 * job.gateEnd, { done: 0 }, { ...ctx, progress: () => undefined })
      const gate = BESIDE * job.radius
      const wanted = (i: number, j: number) => setups[i] !== setups[j]
      const all = await findMatches(job.match, job.poses, job.boxes, { gate, cos: 0.8, every: 1, radius: job.radius, wanted }, ctx)
      const found = gaps(all, job.poses)
      let count = 0
      for (const g of found) if (Math.abs(g) < SAME * gate) count++
      out.push({
        move: multiply(job.poses[first], invertRigid(start[first])),
        agree: found.length ? count / found.length : 0,
        count,
        free: freeMotions(job, job.unknowns, solved.weak, []),
      })
    } catch (e) {
      if (!(e instanceof OakError) || e.code === 'cancelled') throw e
      out.push({ move: c, agree: 0, count: 0, free: [] })
    }
    ctx.progress(0.5 + (0.5 * (k + 1)) / candidates.length)
  }
  return out
}
