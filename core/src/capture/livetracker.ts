import { identity, invertRigid, motionTimes, multiply, type Mat4 } from '../base/mat4.ts'
import { contests } from './contest.ts'
import { goodView } from './goodview.ts'
import { heldBy, holderOf, ledByShape } from './holder.ts'
import type { LiveFrame, LiveOptions } from './liveframe.ts'
import type { Held } from './motions.ts'
import { placedFrames } from './placedframes.ts'
import { FOUND_HIDDEN } from './refind.ts'
import type { ShapePose } from './trackshape.ts'
import { judgeFrame, type FrameReason, type FrameState, type Verdict } from './verdict.ts'

export type { LiveFrame, LiveOptions } from './liveframe.ts'

export interface LiveState {
  /** of the recording: 'finding' while a place that was found again has to prove itself */
  state: FrameState | 'first' | 'finding'
  why: FrameReason
  /** scanner to model, of the last frame that was placed */
  pose: Mat4
  /** of this frame; undefined when it is not placed */
  laid: ShapePose | undefined
  hidden: number
  /** markers, or the scanner's own word, hold it */
  held: boolean
  /** frames on end that are held and that do not lie on the surface: something has moved */
  contradicts: number
  /** frames that wait for the place to be found again, and those that were placed afterwards by this one */
  waiting: number
  rescued: number
  /** frames that entered the surface with this one, in the order in which they did */
  entered: { time: number; pose: Mat4 }[]
  /** counts the places that were found again: what was placed since hangs on that */
  span: number
  /** the surface began anew with this frame: what entered before counts no more */
  anew: boolean
}

/** Where a frame was placed; at: where the scanner said that it was. */
interface Place {
  time: number
  pose: Mat4
  at: Mat4 | undefined
}
const placeOf = ({ time, at }: LiveFrame, pose: Mat4): Place => ({ time, pose, at })
/** How the scanner went from one frame to the next, and how long that took. */
interface Motion {
  by: Mat4
  ms: number
}
const STILL: Motion = { by: identity(), ms: 1 }
const between = (from: Mat4, to: Mat4, ms: number): Motion => ({ by: multiply(to, invertRigid(from)), ms: Math.max(1, ms) })
/** times a motion, at the most: so long ago, a hand moves otherwise */
const FURTHEST = 6

interface Placed {
  laid: ShapePose | undefined
  held: boolean
  verdict: Verdict
}

/** A place that was found again must hold for so many frames on end. */
const PROOF = 5
/** So many held frames on end contradict, and something has moved; of single lines more do without (Rowan's: a quarter of them at first). */
const MOVED = 5
const MOVED_LINES = 12
/** So many weak frames on end, and the next one that is held is asked whether it could as well lie elsewhere. Tried: that it prove itself as one that was lost:
 * nothing is added meanwhile, and what comes next is weak again. */
const SLID = 2
/** Frames that wait, at the most: the oldest go first. */
const MOST_WAITING = 600
/** A first frame shows so many points, at least. */
const FIRST = 200
const showsEnough = ({ xyz }: LiveFrame): boolean => xyz.length >= 3 * FIRST
/** A frame that shows nothing is held where it is itself. */
const ITSELF = new Float32Array(3)
/** Pose of the first frame, where nothing else has axes: z towards the scanner, so that what is recorded from above stands upright. */
const UPRIGHT = [1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1]

/** Frames that waited and are tried with one that comes: more would hold it up. */
const RESCUED_AT_ONCE = 2
/** ms over which shape leads from one frame to the next */
const CHAIN = 500

/**
 * Tracks frames as they come, by their shape, by markers, or by both. A frame enters the surface when it fits, is held in all six motions, contradicts nothing,
 * and lies where a hand can have brought the scanner; else it waits. When the place was found again, by the constellation of the markers or by shape near where
 * it was lost, and has held for PROOF frames, those that wait are tried backwards from there; where something is free it is weak until it is held. Nothing that
 * was not steady is ever added; as long as the first frame holds none, a newer one begins the surface anew. Weak frames, and the oldest of too many that wait,
 * are not kept here: whoever records keeps all frames.
 */
export function liveTracker(o: LiveOptions) {
  const by = heldBy(o)
  const holder = holderOf(o)
  const byShape = ledByShape(by)
  /** they have to be found before anything begins */
  const sought = holder && !holder.always
  const error = o.error ?? 0.3
  const model = placedFrames({ spacing: o.spacing, noise: o.noise, error, findable: byShape, print: by === 'print', lines: o.lines ?? false })
  let pose = sought ? identity() : Float64Array.from(UPRIGHT)
  let motion = STILL
  let time = 0
  /** where the scanner said that it was then */
  let said: Mat4 | undefined
  // where a map is, it is found before anything begins
  let state: LiveState['state'] = sought ? 'lost' : 'first'
  /** a weak one may have slid */
  const good = goodView(pose)
  /** that place while it is lost: where one is led back to */
  let ghost: Mat4 | undefined
  const waiting: LiveFrame[] = []
  /** from where those are tried */
  let back: (Place & { motion: Motion }) | undefined
  /** weak frames on end */
  let slid = 0
  const disputed = contests(o.noise, o.lines ? MOVED_LINES : MOVED)
  /** frames of a place that has to prove itself */
  let proof: { frame: LiveFrame; pose: Mat4 }[] = []
  /** it was found again where something is free: it proves itself when it is held, and before nothing enters */
  let unproven = false

  let span = 0
  let rescued = 0
  /** What is told is of what comes now. */
  const begun = () => {
    model.begun()
    rescued = 0
  }
  const enter = ({ time, xyz, levels }: LiveFrame, pose: Mat4) => model.add({ time, xyz, levels, pose })
  const tell = (why: FrameReason, placed?: Placed): LiveState => ({
    state,
    why,
    pose,
    laid: placed?.laid,
    hidden: placed?.verdict.hidden ?? 0,
    held: placed?.held ?? false,
    contradicts: disputed.onEnd(),
    waiting: waiting.length,
    rescued,
    span,
    ...model.told(),
  })
  const wait = (frame: LiveFrame) => {
    waiting.push(frame)
    if (waiting.length > MOST_WAITING) waiting.shift()
  }
  const judged = (frame: LiveFrame, laid: ShapePose | undefined, held: boolean, predicted: Mat4, since: number): Placed => {
    const verdict = judgeFrame(model.surface(), frame.xyz, laid, predicted, { error, since, held })
    const barred = held && verdict.state === 'steady' && disputed.bars(frame.time)
    return { laid, held, verdict: barred ? { ...verdict, state: 'weak', why: 'moved' } : verdict }
  }
  /** By what holds it, together with its shape where both count. */
  const layHeld = ({ xyz, markers }: LiveFrame, at: Held): ShapePose => {
    const shape = model.shape()
    // a small part is missed by most lines: such a frame is held as well as any, it adds nothing
    return (by === 'both' && shape.lay(xyz, at.pose, at)) || shape.meet(xyz, at, xyz.length ? xyz : markers?.xyz.length ? markers.xyz : ITSELF)
  }
  const follow = (frame: LiveFrame, from: Place, motion: Motion): Placed => {
    const since = Math.max(1, Math.abs(frame.time - from.time))
    // it goes on as it went, for as long as it took this time: on a slow computer frames are passed over
    const predicted =
      frame.at && from.at
        ? multiply(from.pose, multiply(invertRigid(from.at), frame.at))
        : multiply(motionTimes(motion.by, Math.min(FURTHEST, since / motion.ms)), from.pose)
    const seen = holder?.lay(frame, predicted)
    if (seen) return judged(frame, layHeld(frame, seen), true, predicted, since)
    const led = by === 'both' ? since < CHAIN : byShape
    return judged(frame, led ? model.shape().lay(frame.xyz, predicted, undefined, frame.levels) : undefined, false, predicted, since)
  }

  /** From nothing: by the constellation of the markers, or by its own word. */
  const byHolder = (frame: LiveFrame): Placed | undefined => {
    const found = holder?.find(frame)
    return found && judged(frame, layHeld(frame, found), true, found.pose, 0)
  }
  /** Looks for the place: so, or by shape near the ghost. */
  const find = (frame: LiveFrame): Placed | FrameReason => {
    const placed = byHolder(frame)
    if (placed) return placed.verdict.state === 'steady' || placed.verdict.why === 'moved' ? placed : placed.verdict.why
    // it is known where it is, if not so well that it could enter
    const led = frame.at && said && follow(frame, { time, pose, at: said }, STILL)
    if (led) return led.verdict.state === 'steady' ? led : led.verdict.why
    const found = byShape && ghost ? model.again().find(frame, ghost) : 'elsewhere'
    return typeof found === 'string' ? found : judged(frame, found, false, found.pose, 0)
  }
  /** A place that was found, and where something is free: it is followed, and adds nothing. */
  const goesOnWeak = (frame: LiveFrame, placed: Placed & { laid: ShapePose }): LiveState => {
    goOn(frame, placed.laid)
    state = 'weak'
    unproven = true
    return tell(placed.verdict.why, placed)
  }

  /** Frames that wait, tried backwards from the place that was found. */
  const rescue = (most: number): void => {
    for (let tried = 0; back && waiting.length && tried < most; tried++) {
      const frame = waiting[waiting.length - 1]
      let { laid, verdict } = follow(frame, back, back.motion)
      // markers may tell where it is, however far from the last one
      const found = verdict.state !== 'steady' && byHolder(frame)
      if (found) ({ laid, verdict } = found)
      if (laid && verdict.state === 'steady') {
        back = { ...placeOf(frame, laid.pose), motion: between(back.pose, laid.pose, Math.abs(back.time - frame.time)) }
        enter(frame, laid.pose)
        rescued++
      } else if (!holder) {
        // it hung on this one
        back = undefined
        return
      }
      waiting.pop()
    }
  }

  /** The surface begins anew with this frame, where it lies: those before have shown nothing that held it. */
  const beginWith = (frame: LiveFrame) => {
    model.beginAnew()
    good.anew(pose)
    enter(frame, pose)
  }
  /** The next frame is expected after this one. */
  const goOn = (frame: LiveFrame, laid: ShapePose): void => {
    motion = between(pose, laid.pose, frame.time - time)
    pose = laid.pose
    time = frame.time
    said = frame.at
  }

  return {
    surface: model.surface,
    /** frames in the surface */
    frames: model.count,
    ghost: () => ghost,
    /** What still waits is tried, however long that takes; gives what entered. */
    finish(): LiveState['entered'] {
      model.begun()
      rescue(Infinity)
      // by now all is known that could speak against them
      if (holder?.always)
        for (const frame of waiting.splice(0)) {
          const found = byHolder(frame)
          if (found?.laid && found.verdict.state === 'steady') enter(frame, found.laid.pose)
        }
      return model.told().entered
    },
    /**
     * Takes frames out of the surface that a person leaves out. What was led on from the newest of them is lost, and led back to the newest that is left.
     * The surface begins anew when nothing is left.
     */
    leaveOut(list: Iterable<LiveFrame>): LiveState {
      begun()
      disputed.forget()
      const wait = new Set<number>()
      let upTo = -Infinity
      for (const frame of list) {
        wait.add(frame.time)
        upTo = Math.max(upTo, frame.time)
        model.leaveOut(frame.time, frame)
      }
      for (let i = waiting.length - 1; i >= 0; i--) if (wait.has(waiting[i].time)) waiting.splice(i, 1)
      const last = model.newest()
      if (!last) {
        model.beginAnew()
        state = sought ? 'lost' : 'first'
        pose = sought ? identity() : Float64Array.from(UPRIGHT)
        ghost = undefined
      } else if (upTo >= last.time) {
        state = 'lost'
        pose = ghost = last.pose
        good.anew(pose)
        said = undefined
      } else return tell('fits')
      proof = []
      unproven = false
      back = undefined
      motion = STILL
      slid = 0
      return tell('fits')
    },
    /** Brings frames into the surface again that were taken out, where they lay. */
    takeIn(list: Iterable<LiveFrame>): LiveState {
      begun()
      for (const frame of list) model.takeIn(frame.time, frame)
      return tell('fits')
    },
    /** With time on its hands: one of the frames that wait is tried. Undefined where there is none, or no place to try it from. */
    tryWaiting(): LiveState | undefined {
      if (state !== 'steady' || !back || !waiting.length) return undefined
      begun()
      rescue(1)
      return tell('fits')
    },
    feed(frame: LiveFrame): LiveState {
      begun()
      if (state === 'first') {
        const first = holder ? frame.at : pose
        // who knows where he is need not see anything
        if (!first || (!holder && !showsEnough(frame))) return tell('elsewhere')
        pose = first
        good.anew(pose)
        enter(frame, pose)
        state = 'steady'
        time = frame.time
        said = frame.at
        return tell('fits')
      }
      if (state === 'lost') {
        const found = find(frame)
        if (typeof found === 'string' || !found.laid) {
          // one frame is nothing to come back to: the newest begins anew
          if (model.count() === 1 && !holder && showsEnough(frame)) {
            ghost = undefined
            time = frame.time
            said = frame.at
            state = 'steady'
            beginWith(frame)
            return tell('fits')
          }
          wait(frame)
          return tell(typeof found === 'string' ? found : 'elsewhere')
        }
        // where it was left it may have been held by more than is seen now: it is not lost there
        if (found.verdict.state === 'weak') return goesOnWeak(frame, { ...found, laid: found.laid })
        state = 'finding'
        proof = [{ frame, pose: found.laid.pose }]
        return tell('fits', found)
      }
      if (state === 'finding') {
        const last = proof[proof.length - 1]
        const earlier = proof.at(-2)
        const moved = earlier ? between(earlier.pose, last.pose, last.frame.time - earlier.frame.time) : STILL
        const placed = follow(frame, placeOf(last.frame, last.pose), moved)
        const { laid, verdict, held } = placed
        if (!laid || verdict.state !== 'steady' || (!held && verdict.hidden > FOUND_HIDDEN)) {
          for (const p of proof) wait(p.frame)
          proof = []
          if (laid && verdict.state === 'weak' && !held) {
            pose = last.pose
            time = last.frame.time
            return goesOnWeak(frame, { ...placed, laid })
          }
          state = 'lost'
          wait(frame)
          return tell(verdict.why, { ...placed, laid: undefined })
        }
        proof.push({ frame, pose: laid.pose })
        if (proof.length < PROOF) return tell('fits', placed)
        if (model.count()) span++
        pose = last.pose
        time = last.frame.time
        goOn(frame, laid)
        good.saw(pose, Math.max(...laid.sigmas))
        // by shape it is led back from the one that all others have proved: the first of them may have come to rest beside
        const from = held ? 0 : proof.length - 1
        back = { ...placeOf(proof[from].frame, proof[from].pose), motion: STILL }
        for (const p of proof.slice(from)) enter(p.frame, p.pose)
        for (const p of proof.slice(0, from)) wait(p.frame)
        proof = []
        state = 'steady'
        unproven = false
        ghost = undefined
        rescue(from + RESCUED_AT_ONCE)
        return tell('fits', placed)
      }
      const placed = follow(frame, { time, pose, at: said }, motion)
      const { laid, verdict, held } = placed
      const lose = (why: FrameReason) => {
        ghost = good.pose()
        state = 'lost'
        unproven = false
        motion = STILL
        slid = 0
        back = undefined
        wait(frame)
        return tell(why, { ...placed, laid: undefined })
      }
      if (!laid || verdict.state === 'lost') return lose(verdict.why)
      if (unproven && (verdict.state === 'steady' || !held)) {
        if (verdict.state === 'weak') return goesOnWeak(frame, { ...placed, laid })
        if (!held && model.again().alike(frame, laid)) return lose('alike')
        state = 'finding'
        proof = [{ frame, pose: laid.pose }]
        return tell('fits', placed)
      }
      if (held) {
        if (verdict.why === 'off' || verdict.why === 'hidden') disputed.against(model.surface(), frame.time, frame.xyz, laid.pose)
        else disputed.agrees(frame.time, frame.xyz, laid.pose)
        slid = 0
        if (holder?.always && verdict.state === 'weak') wait(frame)
      } else if (verdict.state === 'weak') slid++
      else {
        // it may have slid, and fit again where the part looks alike
        if (slid >= SLID && model.count() > 1 && model.again().alikeBeside(frame, laid)) return lose('alike')
        slid = 0
      }
      goOn(frame, laid)
      state = verdict.state
      if (state === 'steady') {
        good.saw(pose, Math.max(...laid.sigmas))
        enter(frame, pose)
        rescue(RESCUED_AT_ONCE)
      } else if (model.count() === 1 && !holder) {
        // what the first frame shows does not hold the next ones: a newer one may
        beginWith(frame)
      }
      return tell(verdict.why, placed)
    },
  }
}
export type LiveTracker = ReturnType<typeof liveTracker>
