import { GrowF32, GrowU8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import type { PassHeld } from '../align/prior.ts'
import { invertRigid, transformPoint, type Mat4 } from '../base/mat4.ts'
import { lot } from '../base/random.ts'
import { checkCancelled, type RunContext } from '../base/run.ts'
import type { RecordedFrame } from '../formats/recording.ts'
import { coreBox, makePoints, type Points } from '../shape/points.ts'
import { closeLoops, FEWEST_FRAMES, middleOf, type Closed, type TrackedFrame } from './closing.ts'
import { isBeneath, type Floor } from './floor.ts'
import { heldBy, holderOf, ledByShape } from './holder.ts'
import { liveTracker, type LiveOptions, type LiveState } from './livetracker.ts'
import { covarianceAt, type Held } from './motions.ts'
import { PATCH } from './patch.ts'
import { relayFrames } from './relay.ts'
import { printedStretch, type Stretch } from './stretch.ts'
import { growingSurface, type GrowingSurface } from './surface.ts'
import { leverOf } from './trackshape.ts'
import { FATES, inSpans, orderedSpans, timelineOf, type Fate, type Spans, type Timeline } from './timeline.ts'
import type { FrameReason } from './verdict.ts'

export interface SolveOptions extends LiveOptions {
  /** measured points that are kept in a cube of the spacing; the rest are left out by lot. Default 12 */
  most?: number
  /** what shape holds is solved together once it is tracked. Default true; a rehearsal, where each frame is told how it came there, does without */
  together?: boolean
  /** spans that a person left out: none of their frames counts for anything */
  without?: Spans
  /** What the part stands on, found in the surface as it was solved: what lies beneath it, raised by so many mm, helps to hold the frames and is no part of the pass. */
  floor?: { of(surface: GrowingSurface): Floor; raise: number }
}

export interface SolvedRecording {
  /** in the axes of the map, or of the first frame; with normals, where enough lies around a point to tell, and colours as they were seen, where the frames have them */
  points: Points
  /** measured before some were left out */
  measured: number
  /** and those that lie beneath the floor; clear: those above it by more than noise, a cube of the spacing or more */
  floor: (Floor & { beneath: number; clear: number }) | undefined
  /** of each frame that has a place: where, and its span */
  placed: TrackedFrame[]
  /** frames that have none, by why */
  outside: Map<FrameReason, number>
  /** what shape alone led, solved together */
  closed: Closed | undefined
  /** where it may have shrunk or slid; byPrint: along what a print alone holds */
  stretch: (Stretch & { byPrint: boolean }) | undefined
  /** how far frames were moved when they were laid once more on all of them, mm; empty where shape does not hold them */
  moved: Float64Array
  /**
   * How well a frame is held along its weakest motion, mm (1 sigma): the median, Infinity where most are not, and the worst of those that are; NaN where nobody
   * knows. free: how many are not held by all frames together, and stay where those before held them
   */
  sigma: { median: number; worst: number; free: number }
  /**
   * How well the pass lies in the axes of the map, or of what the scanner says of where it is: as one frame about its middle is held, since their errors go
   * together. Undefined where its axes are those of its own first frame, and say nothing of any other pass
   */
  held: PassHeld | undefined
  /** frames that a person left out */
  out: number
  /** how it went; known: points, in the order in which they lie */
  timeline: Timeline
}

/** ms after which the host is let in */
const TURN = 20
const TRACKED = 0.5
const SOLVED = 0.8
const RELAID = 0.92

/**
 * A recording becomes a pass: its frames are tracked in their order, those that wait are placed, what shape led is solved together (closeLoops), each is laid once
 * more on all (relayFrames), and their points become one cloud. The same frames and options give the same pass, whatever happened while they were recorded.
 * Throws OakError 'nothing-placed' when no frame can be, and what closeLoops throws.
 */
export async function solveRecording(all: readonly RecordedFrame[], o: SolveOptions, ctx: RunContext): Promise<SolvedRecording> {
  const seconds = (f: { time: number }) => (f.time - all[0].time) / 1000
  const spans = orderedSpans(o.without ?? [])
  const recorded = spans.length ? all.filter((f) => !inSpans(spans, seconds(f))) : all
  if (!recorded.length && all.length) throw new OakError('nothing-left', 'All frames of this recording are left out.', { remedy: 'Take some of it in again.' })
  let began = performance.now()
  const turn = async (done: number, phase: string) => {
    if (performance.now() - began < TURN) return
    checkCancelled(ctx)
    ctx.progress(done, phase)
    await new Promise((resolve) => setTimeout(resolve))
    began = performance.now()
  }
  const by = heldBy(o)
  const byShape = ledByShape(by)
  const together = o.together ?? true
  const { placed, why, tracked } = await track(recorded, o, (k) => turn((TRACKED * k) / recorded.length, 'tracking'))
  if (!placed.length)
    throw new OakError('nothing-placed', `None of the ${recorded.length} frames could be placed.`, {
      remedy:
        by === 'own'
          ? 'Its frames do not say where the scanner was: let shape or markers hold them.'
          : o.markers
            ? 'Look whether this is the map of the markers that were recorded.'
            : 'A part that holds no frame by its shape needs markers.',
    })
  const part = (from: number, to: number): RunContext => ({ ...ctx, progress: (d, phase) => ctx.progress(from + (to - from) * d, phase) })
  let poses = placed.map((f) => f.pose)
  let closed: Closed | undefined
  if (together && (by === 'shape' || by === 'print') && placed.length >= FEWEST_FRAMES) {
    closed = await closeLoops(placed, {}, part(TRACKED, SOLVED))
    poses = closed.poses
  }
  let moved: Float64Array = new Float64Array(0)
  const sigmas = new Float64Array(placed.length).fill(NaN)
  const holder = holderOf(o)
  const byTime = new Map(recorded.map((f) => [f.time, f]))
  const held = (i: number): Held | undefined => holder?.lay(byTime.get(placed[i].time)!, poses[i])
  const inAxes: Held[] = []
  if (!together) placed.forEach((f, i) => (sigmas[i] = tracked.get(f.time) ?? NaN))
  else if (byShape) {
    const relaid = await relayFrames(
      placed,
      poses,
      { spacing: o.spacing, noise: o.noise, print: by === 'print', ...(holder ? { held } : {}) },
      part(SOLVED, RELAID),
    )
    poses = relaid.poses
    moved = relaid.moved
    sigmas.set(relaid.sigmas)
  }
  const surface = growingSurface(o.spacing, o.noise, o.lines)
  for (let i = 0; i < placed.length; i++) {
    placed[i].pose = poses[i]
    const { xyz } = placed[i]
    surface.addFrame(xyz, poses[i], i)
    const by = held(i)
    if (by) inAxes.push(by)
    if (by && !byShape) sigmas[i] = worstAt(by, xyz)
    await turn(RELAID, 'points')
  }
  const floor = o.floor && { ...o.floor.of(surface), raise: o.floor.raise, beneath: 0, clear: 0 }
  const out = { xyz: new GrowF32(1 << 16), normals: new GrowF32(1 << 16), colours: new GrowU8() }
  const patch = new Float64Array(PATCH)
  let measured = 0
  const upTo = new Map<number, { sigma: number; known: number }>()
  for (let k = 0; k < placed.length; k++) {
    const { time, pose: p } = placed[k]
    const { xyz, colours } = byTime.get(time)!.points()
    for (let i = 0; i < xyz.length; i += 3) {
      const x = p[0] * xyz[i] + p[1] * xyz[i + 1] + p[2] * xyz[i + 2] + p[3]
      const y = p[4] * xyz[i] + p[5] * xyz[i + 1] + p[6] * xyz[i + 2] + p[7]
      const z = p[8] * xyz[i] + p[9] * xyz[i + 1] + p[10] * xyz[i + 2] + p[11]
      if (floor && isBeneath(floor, floor.raise, x, y, z)) {
        floor.beneath++
        continue
      }
      if (floor && !isBeneath(floor, floor.raise + o.spacing, x, y, z)) floor.clear++
      const k = surface.cubeAt(x, y, z, p[3] - x, p[7] - y, p[11] - z)
      if (lot(measured++) * surface.pointsIn(k) >= (o.most ?? 12)) continue
      out.xyz.push3(x, y, z)
      if (colours) for (let c = 0; c < 3; c++) out.colours.push(colours[i + c])
      if (surface.patchAt(x, y, z, p[3] - x, p[7] - y, p[11] - z, patch)) out.normals.push3(patch[3], patch[4], patch[5])
      // nobody knows: towards the scanner at least
      else {
        const l = Math.hypot(p[3] - x, p[7] - y, p[11] - z)
        out.normals.push3((p[3] - x) / l, (p[7] - y) / l, (p[11] - z) / l)
      }
    }
    upTo.set(time, { sigma: sigmas[k], known: out.xyz.length / 3 })
    await turn(RELAID, 'points')
  }
  const known = sigmas.filter((s) => !Number.isNaN(s)).sort()
  const finite = known.filter(Number.isFinite)
  const outside = new Map<FrameReason, number>()
  for (const w of why.values()) outside.set(w, (outside.get(w) ?? 0) + 1)
  const fates = new Map([...why].map(([time, w]): [number, Fate] => [time, w === 'free' || w === 'alike' ? 'weak' : 'lost']))
  for (const { time } of placed) fates.set(time, 'placed')
  ctx.progress(1)
  const xyz = out.xyz.done()
  // a few frames without would leave nobody knowing whose is whose
  const colours = out.colours.length === xyz.length && xyz.length ? out.colours.done() : undefined
  return {
    points: makePoints({ xyz, normals: out.normals.done(), colours }),
    held: inAxes.length && xyz.length ? heldTogether(inAxes, xyz) : undefined,
    measured,
    floor,
    placed,
    outside,
    closed,
    stretch: stretchOf(closed, by === 'print' && closed !== undefined && closed.free > 0, placed, known[known.length >> 1] ?? NaN),
    moved,
    sigma: { median: known[known.length >> 1] ?? NaN, worst: finite.at(-1) ?? NaN, free: known.length - finite.length },
    out: all.length - recorded.length,
    timeline: timelineOf({
      times: all.map(seconds),
      fates: all.map((f) => FATES.indexOf(fates.get(f.time) ?? 'out')),
      sigmas: all.map((f) => upTo.get(f.time)?.sigma ?? NaN),
      known: all.map((f) => upTo.get(f.time)?.known ?? 0),
    }),
  }
}

/** Its points are decoded when they are asked for: a recording of twenty minutes is 3 GB otherwise. */
const lazily = (f: RecordedFrame, pose: Mat4, span: number): TrackedFrame => ({
  time: f.time,
  pose,
  span,
  get xyz() {
    return f.points().xyz
  },
  get levels() {
    return f.points().intensity
  },
})

async function track(recorded: readonly RecordedFrame[], o: LiveOptions, turn: (k: number) => Promise<void>) {
  const tracker = liveTracker(o)
  const byTime = new Map(recorded.map((f) => [f.time, f]))
  let placed: TrackedFrame[] = []
  const why = new Map<number, FrameReason>()
  /** how well each was held when it entered, mm */
  const tracked = new Map<number, number>()
  const enter = (entered: LiveState['entered'], span: number) => {
    for (const { time, pose } of entered) {
      placed.push(lazily(byTime.get(time)!, pose, span))
      why.delete(time)
    }
  }
  for (let k = 0; k < recorded.length; k++) {
    const { time, markers, at } = recorded[k]
    const { xyz, intensity: levels } = recorded[k].points()
    const s = tracker.feed({ time, xyz, ...(levels ? { levels } : {}), markers, ...(at ? { at } : {}) })
    if (s.anew) {
      for (const f of placed) why.set(f.time, 'free')
      placed = []
    }
    if (s.state !== 'steady') why.set(time, s.why)
    if (s.laid) tracked.set(time, Math.max(...s.laid.sigmas))
    enter(s.entered, s.span)
    await turn(k)
  }
  enter(tracker.finish(), placed.at(-1)?.span ?? 0)
  placed.sort((a, b) => a.time - b.time)
  return { placed, why, tracked }
}

function stretchOf(closed: Closed | undefined, byPrint: boolean, placed: readonly TrackedFrame[], sigma: number): SolvedRecording['stretch'] {
  const stretch = byPrint ? printedStretch(placed.map(middleOf), leverOf(placed[placed.length >> 1].xyz), sigma) : closed?.stretch
  return stretch && { ...stretch, byPrint }
}

/** The mean of what holds the frames, about the middle of the pass (of its axes, mm). */
function heldTogether(frames: readonly Held[], xyz: Float32Array): PassHeld {
  const box = coreBox(xyz)
  const about = [0, 1, 2].map((k) => (box[k] + box[k + 3]) / 2)
  const covariance = new Array<number>(36).fill(0)
  for (const f of frames) {
    const c = covarianceAt(f, transformPoint(invertRigid(f.pose), about[0], about[1], about[2]), 1)
    for (let k = 0; k < 36; k++) covariance[k] += c[k] / frames.length
  }
  return { about, covariance }
}

/** How well the middle of a frame's points is held, mm (1 sigma). */
function worstAt(by: Held, xyz: Float32Array): number {
  const at = [0, 0, 0]
  for (let i = 0; i < xyz.length; i++) at[i % 3] += (3 * xyz[i]) / xyz.length
  const c = covarianceAt(by, at, 1)
  return Math.sqrt(Math.max(c[21], c[28], c[35]))
}
