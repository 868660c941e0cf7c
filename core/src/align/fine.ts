import { identity, invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import type { Placed, Points } from '../shape/points.ts'
import { buildRowGrid } from '../space/rowgrid.ts'
import { groupCloud } from './cloud.ts'
import { icp } from './icp.ts'
import { adjustJointly } from './joint.ts'
import type { JointResult } from './jointreport.ts'

export interface FineOptions {
  /** how far off the loose side may be, mm; default 4 % of the part */
  reach?: number
}

/** Share of what pairs could hold below which a motion is left to the joint adjustment, which tells edges from faces. Measured: 0.05 and 0.08 alike, 0.03 lets some slide. */
const HELD = 0.05

export interface FineResult {
  /** moves the loose group; multiply it from the left onto each of its passes' poses */
  move: Mat4
  joint: JointResult
}

/**
 * Exact alignment of a loose group of passes onto an anchor group from a rough pose: thinned point-to-plane steps to
 * catch it, then the joint adjustment's unbiased plane-to-plane solution with both groups kept rigid.
 * Freedom of the result is in joint.passes[].free: a flat, turned or sliding part is not reported as solved.
 */
export async function alignFine(anchor: Placed<Points>[], loose: Placed<Points>[], options: FineOptions, ctx: RunContext): Promise<FineResult> {
  const fixed = await groupCloud(anchor, 12_000, subProgress(ctx, 0, 0.15, 'thinning'))
  const moving = await groupCloud(loose, 12_000, subProgress(ctx, 0.15, 0.3, 'thinning'), fixed.size)
  const reach = Math.max(options.reach ?? 0.04 * fixed.diagonal, 2 * fixed.size)
  const grid = buildRowGrid(fixed.xyz, reach / 2)
  const gates = []
  for (let g = reach; g > fixed.size; g /= 2) gates.push(g)
  const caught = icp(moving, fixed, grid, identity(), [...gates, fixed.size], 12, HELD)
  const passes = [...anchor, ...loose.map((p) => ({ ...p, pose: multiply(caught, p.pose) }))]
  const setups = passes.map((_, i) => (i < anchor.length ? 0 : 1))
  const joint = await adjustJointly(
    passes,
    { setups, rigid: true, gateStart: reach, samples: Math.min(15_000, 36_000 / passes.length) },
    subProgress(ctx, 0.3, 1),
  )
  const first = anchor.length
  const start = loose[0].pose
  const end = joint.poses[first]
  return { move: multiply(end, invertRigid(start)), joint }
}
