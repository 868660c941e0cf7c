import { OakError } from '../base/errors.ts'
import { identity, invertRigid, multiply, rotationVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { checkCancelled, inFlight, subProgress, type RunContext } from '../base/run.ts'
import { cholesky, choleskyInverseInside, choleskySolve } from '../base/solve.ts'
import { median } from '../base/stats.ts'
import { boxDiagonal, coreBox, type Placed, type Points } from '../shape/points.ts'
import { weighByArea } from '../shape/localsurface.ts'
import { pointSpacing, spacingIn } from '../shape/spacing.ts'
import { buildRowGrid } from '../space/rowgrid.ts'
import { assembleEquations, frameModes, setupMotion, type Adjustment, type Solved } from './adjustment.ts'
import { commonMarkers, markerGaps, movedMarkers, type SetupMarkers } from './commonmarkers.ts'
import { report, type JointResult } from './jointreport.ts'
import { findMatches, lanes, type Matches, type MatchPass, type MatchRound } from './match.ts'
import { gaps } from './normalequations.ts'
import { addPrior, departure, makePrior, moveFrames, squares, type PassHeld, type Prior } from './prior.ts'
import { sidesOf } from './side.ts'
import { choosePartners, narrowOrder } from './partners.ts'
import { findSurfels } from './surfels.ts'
import { applyStep, reach, type Unknowns } from './unknowns.ts'
import { ABOVE_NOISE, SETUP_ABOVE_NOISE, type WeakModes } from './weakmodes.ts'

export interface JointOptions {
  /** the pass that stays put; default the first */
  anchor?: number
  /** the setup of each pass, by any number: what was recorded without moving the part. Default: nothing is known of it */
  setups?: ArrayLike<number>
  /** maps of markers recorded in the setups, and the setups' names; without `setups` of no meaning */
  markers?: { maps: SetupMarkers[]; names: string[] }
  /** how far off the scanner may be within a setup, mm along each axis; default half a point spacing. Without `setups` of no meaning */
  tracking?: number
  /** how well each pass is held in the axes of its setup, where that is known: a recorded one by its frames. Without `setups` of no meaning */
  held?: readonly (PassHeld | null)[]
  /** setups move as they are, whole */
  rigid?: boolean
  /** radius of the local surfaces, mm; default 4.4 point spacings */
  radius?: number
  /** surfels a pass in the last rounds */
  samples?: number
  /** largest gap between two passes that is still taken as the same surface, mm, first and last round. Default: from the gaps that there are; 1.3 spacings */
  gateStart?: number
  gateEnd?: number
}

const RADIUS = 4.4
/** The first round reaches at least so many spacings: a pass may slide along itself without a gap that shows it. */
const FIRST = 7
/** Start errors are looked for up to so many spacings, or this share of a pass. */
const WIDEST = 12
const WIDEST_SHARE = 0.02
const LAST_ROUNDS = 5
/** Surfels of a pass in the last rounds, and of all passes together: of very many passes each needs fewer. */
const SURFELS = 4500
const ALL_SURFELS = 100_000
const LEAST_SURFELS = 500
/**
 * While passes are far off their normals disagree for that alone, and what holds them looks like noise: then so many times better than by noise is enough. With the bound
 * of the last rounds the bracket's underside passes stayed 1.5 mm off, though said to be free.
 */
const ROUGHLY = 3

/**
 * Brings all passes together at once: one Gauss-Newton over the poses of all passes but the anchor, over all overlapping pairs, with a symmetric
 * surface-to-surface error (Chen and Medioni 1991; Rusinkiewicz 2019) and Tukey's weights (Beaton and Tukey 1974). Pairs are found anew in rounds with a
 * narrowing gate. Setups first settle whole, then each pass by itself, held by what the scanner recorded within its setup (prior.ts).
 * Motions that only noise holds are left out of the equations (weakmodes.ts) and named in the result; errors are stated from the gaps' own
 * correlation (correlation.ts). Markers that setups share are observations beside the surface (commonmarkers.ts).
 *
 * passes: points with poses good to about a twentieth of a pass. Options in mm; all lengths follow from spacing, noise and size of the passes, and no single
 * point rules any of them. Points are never rewritten: the result is poses.
 * Throws OakError 'one-pass', 'not-together', 'no-overlap' when no pair of passes meets at all; passes that meet nobody are listed in `apart`.
 * What was tried and measured: docs/methods.md, docs/benchmarks.md (part zoo).
 */
export async function adjustJointly(passes: Placed<Points>[], options: JointOptions, ctx: RunContext): Promise<JointResult> {
  const n = passes.length
  if (n < 2) throw new OakError('one-pass', 'There is only one pass, nothing to adjust.', { remedy: 'Bring in a second pass, or go on to the merge.' })
  const anchor = Math.max(0, Math.min(n - 1, options.anchor ?? 0))
  const job = await prepare(passes, options, subProgress(ctx, 0, 0.35))
  const setups = [...new Set(job.setups)]
  const tracking = options.tracking ?? 0.5 * job.spacing
  let contradiction: number | undefined
  const moves = new Map<number, Mat4>()
  const maps = (options.setups && !options.rigid && options.markers?.maps.filter((m) => setups.includes(m.setup))) || []
  const shared = commonMarkers(
    maps,
    maps.map((m) => options.markers?.names[m.setup] ?? ''),
    job.widest,
  )
  job.markers = shared.markers
  const rounds = { done: 0 }
  // setups whole, as long as they may be far off
  if (options.setups && setups.length > 1) {
    const slots = new Map(setups.filter((s) => s !== job.setups[anchor]).map((s, i) => [s, i]))
    job.unknowns = unknownsOf(
      job,
      job.setups.map((s) => slots.get(s) ?? -1),
      slots.size,
    )
    const end = options.rigid ? job.gateEnd : Math.max(job.gateEnd, 2 * tracking)
    const solved = await settle(job, options.gateStart, end, rounds, subProgress(ctx, 0.35, options.rigid ? 1 : 0.6, 'setups'))
    if (options.rigid) return report(job, anchor, solved, rounds.done, ctx)
    contradiction = contradicting(job, tracking)
  }
  const slots = new Int32Array(n).fill(-1)
  let next = 0
  if (n > ALL_PAIRS && !job.partners) await findPartners(job, ctx)
  for (const i of job.partners ? narrowOrder(n, job.partners) : slots.keys()) if (i !== anchor) slots[i] = next++
  job.unknowns = unknownsOf(job, slots, n - 1)
  if (options.setups) {
    for (const s of setups) moves.set(s, setupMotion(job, s))
    job.markers = movedMarkers(job.markers, (s) => setupMotion(job, s))
    const guess = options.tracking === undefined ? Math.max(AS_NOISE * median(job.match.map((m) => m.surfels.sigma)), LEAST_GUESS * job.spacing) : null
    job.prior = makePrior(job.setups, anchor, job.poses, tracking, guess, job.centres, job.levers, options.held)
  }
  const gateStart = options.setups ? Math.max(job.gateEnd, 4 * tracking) : options.gateStart
  const solved = await settle(job, gateStart, job.gateEnd, rounds, subProgress(ctx, options.setups ? 0.6 : 0.35, 0.95, 'passes'))
  contradiction ??= contradicting(job, tracking)
  const r = await report(job, anchor, solved, rounds.done, ctx)
  for (const s of setups) {
    const before = moves.get(s)
    // what hangs on nothing was left where it is
    const left = job.setups.every((of, i) => of !== s || r.apart.includes(i))
    moves.set(s, left ? identity() : before && job.prior ? multiply(setupMotion(job, s), before) : setupMotion(job, s))
  }
  return { ...r, moves, doubts: shared.warnings, ...(contradiction === undefined ? {} : { contradiction }) }
}

/**
 * How far surface and markers want a setup apart, mm, when that is more than scanner and lists explain. Whole setups have no slack: where the surface is
 * stronger it shows at the markers. Where the markers are, it shows at the passes, which then all leave their setup the same way.
 */
function contradicting(job: Adjustment, tracking: number): number | undefined {
  if (!job.markers.length) return undefined
  const { rms, strain } = markerGaps(job.markers, (s) => setupMotion(job, s))
  const expected = rms / Math.max(strain, 1e-9)
  if (!job.prior) return rms > SURE * Math.hypot(expected, tracking) ? rms : undefined
  const { prior } = job
  const frames = prior.frames.map(() => [0, 0, 0, 0])
  const d = new Float64Array(6)
  job.poses.forEach((p, i) => {
    departure(prior, i, p, job.centres.subarray(3 * i, 3 * i + 3), job.levers[i], d)
    const f = frames[prior.frameOf[i]]
    for (let k = 0; k < 3; k++) f[k] += d[3 + k]
    f[3]++
  })
  const off = frames.map(([x, y, z, n]) => (Math.hypot(x, y, z) / n > SURE * Math.hypot(expected, tracking / Math.sqrt(n)) ? Math.hypot(x, y, z) / n : 0))
  const worst = Math.max(...off)
  return worst > 0 ? worst : undefined
}
/** standard deviations */
const SURE = 3

export async function prepare(passes: Placed<Points>[], options: JointOptions, ctx: RunContext): Promise<Adjustment> {
  // rows by a rough spacing; in them the spacing as it is
  const rough = passes.map((p) => pointSpacing(p.data.xyz, 100))
  const grids = passes.map((p, i) => (rough[i] > 0 ? buildRowGrid(p.data.xyz, RADIUS * rough[i]) : null))
  const known = grids.map((g, i) => (g ? spacingIn(g) || rough[i] : 0)).filter((s) => s > 0)
  if (!known.length) throw new OakError('too-few-points', 'The passes have too few points to be adjusted.', { remedy: 'Check that the files hold the scan.' })
  // of several scanners the coarser one sets how finely surfaces can be compared, but no single odd pass
  const spacing = Math.min(Math.max(...known), 2 * median(known))
  const radius = options.radius ?? RADIUS * spacing
  const samples = options.samples ?? Math.min(SURFELS, Math.max(LEAST_SURFELS, ALL_SURFELS / passes.length))
  let ready = 0
  const silent = { ...ctx, progress: () => undefined }
  const sides = await sidesOf(passes, spacing, silent)
  const match = await inFlight(passes, lanes(passes.map((p) => p.data.xyz.length / 3)), async ({ data }, i): Promise<MatchPass> => {
    const side = sides[i]
    const own = grids[i]
    const rows = own && radius < 1.5 * own.cell && radius > 0.5 * own.cell ? own : buildRowGrid(data.xyz, radius)
    const grid = await weighByArea(rows, 0.5 * radius, silent)
    checkCancelled(ctx)
    const surfels = await findSurfels(grid, side, radius, Math.min(samples, Math.ceil(grid.ids.length / 3)), spacing, silent)
    ctx.progress(++ready / passes.length, 'surface elements')
    return { grid, side, surfels }
  })
  const poses = passes.map((p): Mat4 => Float64Array.from(p.pose))
  const boxes = passes.map((p) => coreBox(p.data.xyz))
  const centres = new Float64Array(3 * passes.length)
  const levers = new Float64Array(passes.length)
  match.forEach((m, i) => {
    const r = reach(m.surfels.xyz, m.surfels.index, poses[i])
    centres.set(r.centre, 3 * i)
    levers[i] = Math.max(r.lever, spacing)
  })
  const gateEnd = options.gateEnd ?? 1.3 * spacing
  const widest = Math.max(options.gateStart ?? Math.max(WIDEST * spacing, WIDEST_SHARE * median(boxes.map(boxDiagonal))), gateEnd)
  return {
    passes,
    match,
    poses,
    boxes,
    setups: Int32Array.from(passes, (_, i) => options.setups?.[i] ?? i),
    centres,
    levers,
    spacing,
    radius,
    widest,
    gateEnd,
    unknowns: { slotOf: new Int32Array(0), count: 0, centre: new Float64Array(0), lever: new Float64Array(0) },
    prior: null,
    markers: [],
    aboveNoise: options.setups ? SETUP_ABOVE_NOISE : ABOVE_NOISE,
    partners: null,
  }
}

/** Slots with the middle and lever of the passes in them, where these are now. */
export function unknownsOf(job: Adjustment, slotOf: ArrayLike<number>, count: number): Unknowns {
  const centre = new Float64Array(3 * count)
  const lever = new Float64Array(count)
  const many = new Float64Array(count)
  job.match.forEach((m, i) => {
    const r = reach(m.surfels.xyz, m.surfels.index, job.poses[i])
    job.centres.set(r.centre, 3 * i)
    const s = slotOf[i]
    if (s < 0) return
    for (let k = 0; k < 3; k++) centre[3 * s + k] += r.centre[k]
    lever[s] = Math.max(lever[s], job.levers[i])
    many[s]++
  })
  for (let s = 0; s < count; s++) for (let k = 0; k < 3; k++) centre[3 * s + k] /= many[s]
  return { slotOf: Int32Array.from(slotOf), count, centre, lever }
}

/** Up to so many passes all pairs are compared. */
const ALL_PAIRS = 13

/** Finds out which passes share surface, from a few of their surfels and with a wide gate. */
async function findPartners(job: Adjustment, ctx: RunContext): Promise<void> {
  const every = Math.ceil(median(job.match.map((m) => m.surfels.index.length)) / 16)
  const round = { gate: job.widest, every, cos: 0.8, radius: job.radius, wanted: () => true, fewest: 2 }
  job.partners = choosePartners(job.passes.length, await findMatches(job.match, job.poses, job.boxes, round, ctx), job.setups)
}

const nothingShared = () =>
  new OakError('no-overlap', 'No two passes share any surface.', {
    remedy: 'Bring the setups together by picked pairs first, or check that the passes show the same part.',
  })

/** Rounds of matching and solving with a narrowing gate; moves job.poses. */
export async function settle(
  job: Adjustment,
  gateStart: number | undefined,
  gateEnd: number,
  rounds: { done: number },
  ctx: RunContext,
  stricter = 1,
): Promise<Solved> {
  const u = job.unknowns
  const n = job.passes.length
  if (n > ALL_PAIRS && !job.partners) await findPartners(job, ctx)
  const { partners } = job
  const whole = gateEnd > job.gateEnd
  const round = (gate: number, every: number): MatchRound => ({
    gate,
    every,
    cos: gate > 4 * job.spacing ? 0.9 : gate > 1.01 * gateEnd ? 0.97 : 0.985,
    radius: job.radius,
    wanted: (i, j) => u.slotOf[i] !== u.slotOf[j] && (!partners || partners[i * n + j] === 1),
  })
  let gate = gateStart ?? (await startGate(job, round(job.widest, 8), ctx))
  gate = Math.max(gateEnd, gate)
  const wide: number[] = []
  for (; gate > 1.3 * gateEnd; gate *= 0.45) wide.push(gate)
  const total = wide.length + LAST_ROUNDS
  let solved: Solved | undefined
  let bound = 0
  const start = job.poses.map((p): Mat4 => Float64Array.from(p))
  for (let k = 0; k < total; k++) {
    const last = k - wide.length
    const g = last >= 0 ? gateEnd : wide[k]
    const all = await findMatches(job.match, job.poses, job.boxes, round(g, last < 0 ? 4 : last === 0 || whole ? 2 : 1), ctx)
    if (all.length === 0 && !job.markers.length) throw nothingShared()
    // Tukey's bound is lowered step by step (Blake and Zisserman 1987). Set at once from the gaps' spread it throws out the few faces that hold a
    // weak direction, since they alone show a gap: measured 0.034 mm off, sideways.
    if (last <= 0) bound = 2 * g
    if (job.prior) job.prior.frozen = (await frameModes(job, all, bound, ctx)).modes
    let weak: WeakModes | undefined
    let moved = 0
    for (let it = 0; it < (last < 0 ? 8 : last === 0 ? 10 : 3); it++) {
      checkCancelled(ctx)
      const step = await solveStep(job, all, bound, last <= 0 ? ROUGHLY : undefined, ctx)
      weak = step.weak
      bound *= last < 0 ? 0.8 : 0.6
      moved = Math.max(moved, step.largest)
      if (step.largest < 1e-5 * job.spacing && bound < 0.05 * job.spacing) break
      // the next gate is to be reached, no more
      if (last < 0 && it > 1 && step.largest < 0.01 * job.spacing) break
    }
    if (last >= 0 && job.prior && job.prior.guess !== null) await learnTracking(job, job.prior, job.prior.guess, all, bound, ctx)
    solved = { all, bound, weak: weak as WeakModes }
    rounds.done++
    ctx.progress((k + 1) / total, `round ${k + 1} of ${total}`)
    if (last > 0 && moved < (whole ? 0.05 : 5e-3) * job.spacing) break
  }
  // what was looked for within a reach cannot lie beyond it: something slides that edges alone seem to hold
  const far = start.findIndex((p, i) => gone(job, i, p) > 2 * job.widest)
  if (far >= 0) {
    if (stricter > 30)
      throw new OakError(
        'not-together',
        `${job.passes[far].name} would have to move by ${gone(job, far, start[far]).toPrecision(2)} mm: the passes do not lie together yet.`,
        {
          remedy: 'Bring the setups together first, by shape or by picked pairs, or record a pass that overlaps both sides.',
        },
      )
    job.poses.splice(0, start.length, ...start)
    job.aboveNoise *= 5
    return settle(job, gateStart, gateEnd, rounds, ctx, stricter * 5)
  }
  return solved as Solved
}

/**
 * What is guessed of tracking along each axis before anything is known: a scanner knows its place about as well as it knows a point. In noise of the surface, and at least this share of the spacing.
 * Tried: half a spacing, which is where the rounds begin and ten times too large for a good scanner. Where only one or two departures tell, it ruled: stated errors of what the record holds 2.5 times too large.
 */
const AS_NOISE = 3
const LEAST_GUESS = 0.05
/** The guess counts as so many departures: it keeps one or two that are small by chance from being believed. */
const GUESSED = 0.5

/** Tracking error from how far the passes went from their recorded poses, where surface tells (variance components; Helmert 1907, Förstner 1979). */
async function learnTracking(job: Adjustment, prior: Prior, guess: number, all: Matches[], bound: number, ctx: RunContext): Promise<void> {
  const { h, size } = await assembleEquations(job, all, bound, ctx)
  const l = cholesky(h, size)
  if (!l) return
  const inverse = choleskyInverseInside(l, size)
  const d = new Float64Array(6)
  const ss = { turn: 0, shift: 0 }
  job.poses.forEach((p, i) => {
    departure(prior, i, p, job.centres.subarray(3 * i, 3 * i + 3), job.levers[i], d)
    const own = squares(prior, i, d)
    ss.turn += own.turn
    ss.shift += own.shift
  })
  const found = { ...prior.sigma }
  for (const what of ['turn', 'shift'] as const) {
    // redundancy: departures that there are, less what the unknowns take up of them
    const own = new Float64Array(size * size)
    addPrior(prior, job.unknowns, job.poses, job.centres, job.levers, own, new Float64Array(size), what)
    let taken = 0
    for (let i = 0; i < size; i++) for (let j = 0; j <= i; j++) taken += (i === j ? 1 : 2) * inverse[i * size + j] * own[i * size + j]
    const redundancy = Math.max(0, 3 * job.poses.length - taken)
    // a figure out of few departures is uncertain itself: widened so that 2.5 deviations leave out as little as of a normal distribution (Student's t, 1908; within 3 % of its
    // quantiles from 5 degrees of freedom on). With its variance alone, n / (n - 2), one of eighty zoo cases came out at 2.53
    const few = redundancy > 4 ? (redundancy + 2.3) / (redundancy - 1.7) : 2.7
    found[what] = Math.max(Math.sqrt((few * (GUESSED * guess ** 2 + ss[what])) / (GUESSED + redundancy)), 1e-2 * guess)
  }
  prior.sigma = found
}

/** How far the middle of a pass, or its far places, went from a pose. */
function gone(job: Adjustment, i: number, from: Mat4): number {
  const d = multiply(job.poses[i], invertRigid(from))
  const c = [job.centres[3 * i], job.centres[3 * i + 1], job.centres[3 * i + 2]]
  const q = transformPoint(d, c[0], c[1], c[2])
  return Math.hypot(q[0] - c[0], q[1] - c[1], q[2] - c[2]) + Math.hypot(...rotationVector(d)) * job.levers[i]
}

/** Three times the middle gap that the worst pass has at the start: what reaches further only finds other surface. */
async function startGate(job: Adjustment, round: MatchRound, ctx: RunContext): Promise<number> {
  const all = await findMatches(job.match, job.poses, job.boxes, { ...round, cos: 0.8 }, ctx)
  if (!all.length && !job.markers.length) throw nothingShared()
  let worst = 0
  for (let i = 0; i < job.poses.length; i++) {
    const own = all.filter((m) => m.a === i || m.b === i)
    if (own.length) worst = Math.max(worst, median(gaps(own, job.poses).map(Math.abs)))
  }
  return Math.min(round.gate, Math.max(3 * worst, FIRST * job.spacing))
}

async function solveStep(
  job: Adjustment,
  all: Matches[],
  bound: number,
  limit: number | undefined,
  ctx: RunContext,
): Promise<{ weak: WeakModes; largest: number }> {
  const { h, g, size, own, weak } = await assembleEquations(job, all, bound, ctx, limit, false)
  const l = cholesky(h, size)
  if (!l) throw nothingShared()
  const step = choleskySolve(l, g, size)
  let largest = 0
  for (let i = 0; i < own; i++) largest = Math.max(largest, Math.abs(step[i]))
  if (largest > job.widest) for (let i = 0; i < size; i++) step[i] *= job.widest / largest
  applyStep(job.unknowns, step, job.poses)
  if (job.prior) moveFrames(job.prior, step, own)
  // middles move along
  for (let i = 0; i < job.poses.length; i++) {
    const s = job.unknowns.slotOf[i]
    if (s >= 0) for (let k = 0; k < 3; k++) job.centres[3 * i + k] -= step[6 * s + 3 + k]
  }
  return { weak, largest }
}
