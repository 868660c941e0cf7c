import { OakError } from '../base/errors.ts'
import { invertRigid, multiply, transformPoint, type Mat4 } from '../base/mat4.ts'
import { defineKernel, subProgress, type RunContext } from '../base/run.ts'
import type { Placed, Points } from '../shape/points.ts'
import { buildRowGrid, nearestWithin, runsFor, type RowGrid } from '../space/rowgrid.ts'
import { groupCloud, type Cloud } from './cloud.ts'
import { confirmPoses } from './confirm.ts'
import type { FreeMotion } from './freemotion.ts'
import { icp } from './icp.ts'
import { poseVotes } from './pairvotes.ts'
import { depthMaps, verifyPose, type DepthMap } from './verify.ts'

export interface CoarseOptions {
  /** points kept on each side */
  target?: number
  /** points of the loose side that vote */
  references?: number
  seed?: number
}

export interface CoarseResult {
  /** moves the loose side onto the anchor side */
  pose: Mat4
  /** the next best, clearly different poses, for a caller that can judge more exactly */
  others: Mat4[]
  /** share of loose points that lie on anchor surface with agreeing normals, 0..1 */
  overlap: number
  /** share that contradicts it: off the surface, or in space seen to be empty */
  against: number
  /** of the surface that has surface of the other side beside it, the share that lies on it, looked at as finely as the points allow */
  agree: number
  /** motions that the common surface does not hold: along them the pose is a guess */
  free: FreeMotion[]
  /** the next best, clearly different pose's score against the best's: near 1 the shape does not tell */
  rivalry: number
  /** true when the shape does not decide: turned, flat or repeating parts */
  ambiguous: boolean
  size: number
}

interface Hypothesis {
  pose: Mat4
  score: number
  overlap: number
}

/**
 * Brings two groups of passes together by their shape alone, from any start pose: votes of point pairs (see pairvotes.ts), the
 * best hypotheses settled by point-to-plane steps and judged by agreeing against contradicting surface. The result is settled as finely as the points allow (confirm.ts). Throws OakError 'no-match' when no hypothesis has a fair overlap.
 * `ambiguous` must be shown, not passed over.
 * Tried: consensus of three, then two matched local features (fast point feature histograms, Rusu 2009): 20 of 20 on passes that overlap
 * by half, none on setups that share a third of their surface. Graduated non-convexity over all features at once (Zhou 2016): no
 * landing in 15 on the bracket.
 */
export async function alignByShape(anchor: Placed<Points>[], loose: Placed<Points>[], options: CoarseOptions, ctx: RunContext): Promise<CoarseResult> {
  const target = options.target ?? 2200
  const fixed = await groupCloud(anchor, target, subProgress(ctx, 0, 0.15, 'thinning'))
  const moving = await groupCloud(loose, target, subProgress(ctx, 0.15, 0.3, 'thinning'), fixed.size)
  if (fixed.xyz.length < 60 || moving.xyz.length < 60)
    throw new OakError('too-few-points', 'There is too little surface to tell the shape.', { remedy: 'Bring the sides together by picked pairs.' })
  const votes = subProgress(ctx, 0.3, 0.6, 'pairs of points')
  const candidates = (
    await poseVotes(fixed, moving, { seed: options.seed ?? 1, ...(options.references ? { references: options.references } : {}) }, votes)
  ).slice(0, KEEP)
  const grid = buildRowGrid(fixed.xyz, 3 * fixed.size)
  const settling = await ctx.parallel.map(settle, { moving, fixed, grid, candidates }, candidates.length, 2, ctx, (d) =>
    ctx.progress(0.6 + 0.15 * d, 'verifying'),
  )
  const settled = settling.flat()
  settled.sort((a, b) => b.score - a.score)
  // the best, clearly different ones are settled and judged again on a denser picture, by contradiction above all:
  // a wrong pose of a part that looks nearly alike agrees almost everywhere, and gives itself away somewhere
  const few: Hypothesis[] = []
  for (const h of settled) if (few.length < FINALISTS && few.every((f) => differs(f.pose, h.pose, moving, fixed.size))) few.push(h)
  const denseFixed = await groupCloud(anchor, 9000, subProgress(ctx, 0.75, 0.8, 'verifying'))
  const denseMoving = await groupCloud(loose, 9000, subProgress(ctx, 0.8, 0.85, 'verifying'), denseFixed.size)
  const denseGrid = buildRowGrid(denseFixed.xyz, 2 * denseFixed.size)
  const fixedMaps = depthMaps(anchor, 1.5 * denseFixed.size)
  const movingMaps = depthMaps(loose, 1.5 * denseFixed.size)
  const judging = { moving: denseMoving, fixed: denseFixed, grid: denseGrid, size: fixed.size, poses: few.map((h) => h.pose), fixedMaps, movingMaps }
  const judged = (await ctx.parallel.map(judgeDensely, judging, few.length, 1, ctx)).flat()
  const open = stillOpen(judged)
  const [first] = open
  if (!first || first.against > 0.25 * first.agree) throw noMatch()
  // what thinned clouds leave open is looked at as finely as the points allow
  const looked = await confirmPoses(
    anchor,
    loose,
    open.slice(0, LOOKED_AT).map((h) => h.pose),
    subProgress(ctx, 0.9, 1, 'verifying'),
  )
  const sure = looked.map((c, k) => ({ ...c, of: open[k] })).filter((c) => c.agree >= SURE)
  sure.sort((a, b) => b.count * b.agree ** 4 - a.count * a.agree ** 4)
  const [best] = sure
  if (!best) throw noMatch()
  const worthOf = (c: typeof best) => c.count * c.agree ** 4
  const others = sure.filter((c) => differs(c.move, best.move, moving, fixed.size))
  return {
    pose: best.move,
    others: [...others.map((c) => c.move), ...judged.filter((h) => !open.includes(h)).map((h) => h.pose)],
    overlap: best.of.agree,
    against: best.of.against,
    agree: best.agree,
    free: best.free,
    rivalry: others.length ? worthOf(others[0]) / worthOf(best) : 0,
    ambiguous: others.length > 0 && worthOf(others[0]) > ALIKE * worthOf(best),
    size: denseFixed.size,
  }
}

const noMatch = () =>
  new OakError('no-match', 'The shapes of the two sides do not find each other.', {
    remedy: 'Take away table, strays and islands first, if that is not done; else pick three or more pairs by hand, or record a pass that overlaps both sides.',
  })

interface Judged {
  pose: Mat4
  agree: number
  against: number
}

const worth = (v: Judged) => v.agree - 3 * v.against

/** Of poses that agree at least so well as a share of the best, contradiction decides. */
const FAIR = 0.4
/** Silhouettes and noise alone contradict so much; what is contradicted three times as much as the best is wrong. */
const CHANCE = 0.004
const CONTRADICTED = 3
/** candidates that are looked at closely */
const LOOKED_AT = 4
/** Of what lies beside the other side so much must lie on it. True poses of the zoo: 0.86 and more. */
const SURE = 0.75
/** A second pose of this share of the best one's worth is as good. */
const ALIKE = 0.6

/**
 * Poses that contradiction leaves open, those that agree best first. Overlap alone must not decide: a bar that is shifted along itself may overlap more than
 * where it belongs.
 */
function stillOpen(judged: Judged[]): Judged[] {
  const most = Math.max(0, ...judged.map((h) => h.agree))
  const fair = judged.filter((h) => h.agree >= FAIR * most && h.agree >= 0.06)
  const least = Math.min(...fair.map((h) => h.against))
  return fair.filter((h) => h.against <= CONTRADICTED * least + CHANCE).sort((a, b) => worth(b) - worth(a))
}

/** candidates that are settled, and of these judged on the denser picture */
const KEEP = 32
const FINALISTS = 8

interface SettleArgs {
  moving: Cloud
  fixed: Cloud
  grid: RowGrid
  candidates: Mat4[]
}

const settle = defineKernel('align.settle', ({ moving, fixed, grid, candidates }: SettleArgs, first: number, last: number): Hypothesis[] =>
  candidates.slice(first, last).map((c) => {
    const pose = icp(
      moving,
      fixed,
      grid,
      c,
      [3, 2, 1.5].map((f) => f * fixed.size),
      6,
    )
    return { pose, ...judge(fixed, grid, moving, pose) }
  }),
)

interface JudgeArgs {
  moving: Cloud
  fixed: Cloud
  grid: RowGrid
  /** of the sparser clouds, mm */
  size: number
  poses: Mat4[]
  fixedMaps: DepthMap[]
  movingMaps: DepthMap[]
}

const judgeDensely = defineKernel('align.judge', (a: JudgeArgs, first: number, last: number) =>
  a.poses.slice(first, last).map((start) => {
    const pose = icp(
      a.moving,
      a.fixed,
      a.grid,
      start,
      [2, 1, 0.7].map((f) => f * a.size),
      8,
    )
    return { pose, ...verifyPose(a.fixed, a.grid, a.moving, pose, a.fixedMaps, a.movingMaps) }
  }),
)

/** Whether two poses lay some place of the cloud clearly apart. */
function differs(a: Mat4, b: Mat4, moving: Cloud, size: number): boolean {
  const d = multiply(invertRigid(a), b)
  const step = 3 * Math.max(1, Math.floor(moving.xyz.length / 3 / 60))
  for (let i = 0; i < moving.xyz.length; i += step) {
    const p = [moving.xyz[i], moving.xyz[i + 1], moving.xyz[i + 2]] as const
    const q = transformPoint(d, ...p)
    if (Math.hypot(q[0] - p[0], q[1] - p[1], q[2] - p[2]) > 6 * size) return true
  }
  return false
}

const d2 = new Float64Array(1)

/** Agreeing against contradicting surface: near with the same normal counts for, near with another normal and just off with the same one against. */
function judge(fixed: Cloud, grid: RowGrid, moving: Cloud, m: Mat4): { score: number; overlap: number } {
  const reach = 3 * fixed.size
  const runs = runsFor(grid, reach)
  const n = moving.xyz.length / 3
  let agree = 0
  let against = 0
  for (let i = 0; i < 3 * n; i += 3) {
    const [x, y, z] = transformPoint(m, moving.xyz[i], moving.xyz[i + 1], moving.xyz[i + 2])
    const k = nearestWithin(grid, x, y, z, reach, runs, d2)
    if (k < 0) continue
    const o = 3 * grid.ids[k]
    let c = 0
    let off = 0
    const q = [x - fixed.xyz[o], y - fixed.xyz[o + 1], z - fixed.xyz[o + 2]]
    for (let r = 0; r < 3; r++) {
      c += fixed.normals[o + r] * (m[4 * r] * moving.normals[i] + m[4 * r + 1] * moving.normals[i + 1] + m[4 * r + 2] * moving.normals[i + 2])
      off += fixed.normals[o + r] * q[r]
    }
    if (c > 0.8 && Math.abs(off) < 0.5 * fixed.size) agree++
    else if (Math.abs(off) > 0.5 * fixed.size && Math.sqrt(d2[0]) < 2 * fixed.size) against++
  }
  return { score: (agree - 0.6 * against) / n, overlap: agree / n }
}
