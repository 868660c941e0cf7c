import { identity, invertRigid, motionTimes, multiply, type Mat4 } from '../base/mat4.ts'
import type { Held } from './motions.ts'
import { growingSurface } from './surface.ts'
import { FOUND_HIDDEN, refinder } from './refind.ts'
import { shapeTracker, type ShapePose } from './trackshape.ts'
import { markerTracker, type KnownMarkers, type MarkerTrackingOptions, type SeenMarkers } from './trackmarkers.ts'
import { judgeFrame, type FrameReason, type FrameState, type Verdict } from './verdict.ts'

export interface LiveFrame {
  /** ms */
  time: number
  /** 3N mm, scanner coordinates */
  xyz: Float32Array
  markers?: SeenMarkers
}

export interface LiveOptions {
  /** spacing that is wanted, mm: the cubes of the surface */
  spacing: number
  /** noise of a point across its surface, mm */
  noise: number
  /** largest error of a frame's place along any motion, mm (1 sigma). Default 0.3 */
  error?: number
  /**
   * what holds a frame. 'markers': those of a map that was made before, in whose axes the surface grows; shape only contradicts. 'both': each counts by what it
   * knows, and where fewer than four markers are seen, shape leads on. Default 'markers' when there is a map, else 'shape'
   */
  by?: 'shape' | 'markers' | 'both'
  markers?: MarkerTrackingOptions & { map: KnownMarkers }
}

export interface LiveState {
  /** of the recording: 'finding' while a place that was found again has to prove itself */
  state: FrameState | 'first' | 'finding'
  why: FrameReason
  /** scanner to model, of the last frame that was placed */
  pose: Mat4
  /** of this frame; undefined when it is not placed */
  laid: ShapePose | undefined
  hidden: number
  /** markers hold it */
  held: boolean
  /** frames on end that markers hold and that do not lie on the surface: something has moved */
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
/** So many weak frames on end, and the next one that is held is asked whether it could as well lie elsewhere. Tried: that it prove itself as one that was lost:
 * nothing is added meanwhile, and what comes next is weak again. */
const SLID = 2
/** The first frames are thin, and hold one another loosely: of so many a larger error is let pass, mm. What is free stays weak. */
const YOUNG = 12
const YOUNG_ERROR = 1.5
/** Frames that wait, at the most: the oldest go first. */
const MOST_WAITING = 600
/** Pose of the first frame, where nothing else has axes: z towards the scanner, so that what is recorded from above stands upright. */
const UPRIGHT = [1, 0, 0, 0, 0, -1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1]

/** What holds the frames. */
export const heldBy = (o: LiveOptions) => o.by ?? (o.markers ? 'markers' : 'shape')

/** Frames that waited and are tried with one that comes: more would hold it up. */
const RESCUED_AT_ONCE = 2
/** ms over which shape leads from one frame to the next */
const CHAIN = 500

/**
 * Tracks frames as they come, by their shape, by markers, or by both. A frame enters the surface when it fits, is held in all six motions, contradicts nothing,
 * and lies where a hand can have brought the scanner; else it waits. When the place was found again, by the constellation of the markers or by shape near where
 * it was lost, and has held for PROOF frames, those that wait are tried backwards from there. Nothing that was not steady is ever added; as long as the first
 * frame holds none, a newer one begins the surface anew. Weak frames, and the oldest of too many that wait, are not kept here: whoever records keeps all frames.
 */
export function liveTracker(o: LiveOptions) {
  const by = heldBy(o)
  if (by !== 'shape' && !o.markers) throw new RangeError('markers are to hold the frames, and there are none')
  const markers = by !== 'shape' && o.markers ? markerTracker(o.markers.map, o.markers) : undefined
  const error = o.error ?? 0.3
  const begin = () => {
    const surface = growingSurface(o.spacing, o.noise)
    const shape = shapeTracker(surface, { noise: o.noise })
    return { surface, shape, again: refinder(surface, shape, { noise: o.noise, error }) }
  }
  let { surface, shape, again } = begin()
  /** numbers frames as they enter, and again */
  let number = 0
  /** those that entered, by their time, in the order in which they did */
  let entries = new Map<number, { pose: Mat4; number: number; out: boolean }>()
  let frames = 0
  let pose = markers ? identity() : Float64Array.from(UPRIGHT)
  let motion = STILL
  let time = 0
  // where a map is, it is found before anything begins
  let state: LiveState['state'] = markers ? 'lost' : 'first'
  /** last steady place: a weak one may have slid */
  let steady = pose
  /** that place while it is lost: where one is led back to */
  let ghost: Mat4 | undefined
  const waiting: LiveFrame[] = []
  /** from where those are tried */
  let back: { pose: Mat4; motion: Motion; time: number } | undefined
  /** weak frames on end */
  let slid = 0
  let contradicts = 0
  /** frames of a place that has to prove itself */
  let proof: { frame: LiveFrame; pose: Mat4 }[] = []

  let entered: LiveState['entered'] = []
  let span = 0
  let anew = false
  let rescued = 0
  const add = ({ xyz, time }: LiveFrame, p: Mat4) => {
    entered.push({ time, pose: p })
    entries.set(time, { pose: p, number, out: false })
    surface.addFrame(xyz, p, number)
    if (by !== 'markers') again.add(xyz, p, number)
    number++
    frames++
  }
  /** What is told is of what comes now. */
  const begun = () => {
    entered = []
    anew = false
    rescued = 0
  }
  const beginAnew = () => {
    ;({ surface, shape, again } = begin())
    entries = new Map()
    frames = 0
    anew = true
  }
  /** Newest of the frames that are in the surface. */
  const newest = () => {
    let last: { time: number; pose: Mat4 } | undefined
    for (const [at, e] of entries) if (!e.out && (!last || at > last.time)) last = { time: at, pose: e.pose }
    return last
  }
  const tell = (why: FrameReason, placed?: Placed): LiveState => ({
    state,
    why,
    pose,
    laid: placed?.laid,
    hidden: placed?.verdict.hidden ?? 0,
    held: placed?.held ?? false,
    contradicts,
    waiting: waiting.length,
    rescued,
    entered,
    span,
    anew,
  })
  const wait = (frame: LiveFrame) => {
    waiting.push(frame)
    if (waiting.length > MOST_WAITING) waiting.shift()
  }
  const limit = () => (frames < YOUNG && !markers ? Math.max(error, YOUNG_ERROR) : error)
  const judged = (frame: LiveFrame, laid: ShapePose | undefined, held: boolean, predicted: Mat4, since: number): Placed => ({
    laid,
    held,
    verdict: judgeFrame(surface, frame.xyz, laid, predicted, { error: limit(), since, held }),
  })
  /** By markers, together with its shape where both count. */
  const byMarkers = (frame: LiveFrame, at: Held): ShapePose => (by === 'both' && shape.lay(frame.xyz, at.pose, at)) || shape.meet(frame.xyz, at)
  const follow = (frame: LiveFrame, from: Mat4, motion: Motion, since: number): Placed => {
    // it goes on as it went, for as long as it took this time: on a slow computer frames are passed over
    const predicted = multiply(motionTimes(motion.by, Math.min(FURTHEST, since / motion.ms)), from)
    const at = frame.markers && markers?.lay(frame.markers, predicted)
    if (at) return judged(frame, byMarkers(frame, at), true, predicted, since)
    return judged(frame, by !== 'markers' && (!markers || since < CHAIN) ? shape.lay(frame.xyz, predicted) : undefined, false, predicted, since)
  }

  const byConstellation = (frame: LiveFrame): Placed | undefined => {
    const at = frame.markers && markers?.find(frame.markers)
    return at && judged(frame, byMarkers(frame, at), true, at.pose, 0)
  }
  /** Looks for the place: by the constellation, or by shape near the ghost. */
  const find = (frame: LiveFrame): Placed | FrameReason => {
    const placed = byConstellation(frame)
    if (placed) return placed.verdict.state === 'steady' ? placed : placed.verdict.why
    const found = by !== 'markers' && ghost ? again.find(frame.xyz, ghost) : 'elsewhere'
    return typeof found === 'string' ? found : judged(frame, found, false, found.pose, 0)
  }

  /** Frames that wait, tried backwards from the place that was found. */
  const rescue = (most: number): void => {
    for (let tried = 0; back && waiting.length && tried < most; tried++) {
      const frame = waiting[waiting.length - 1]
      let { laid, verdict } = follow(frame, back.pose, back.motion, Math.abs(back.time - frame.time))
      // markers may tell where it is, however far from the last one
      const found = verdict.state !== 'steady' && byConstellation(frame)
      if (found) ({ laid, verdict } = found)
      if (laid && verdict.state === 'steady') {
        back = { pose: laid.pose, motion: between(back.pose, laid.pose, Math.abs(back.time - frame.time)), time: frame.time }
        add(frame, laid.pose)
        rescued++
      } else if (!markers) {
        // it hung on this one
        back = undefined
        return
      }
      waiting.pop()
    }
  }

  /** The next frame is expected after this one. */
  const goOn = (frame: LiveFrame, laid: ShapePose): void => {
    motion = between(pose, laid.pose, frame.time - time)
    pose = laid.pose
    time = frame.time
  }

  return {
    surface: () => surface,
    /** frames in the surface */
    frames: () => frames,
    ghost: () => ghost,
    /** What still waits is tried, however long that takes; gives what entered. */
    finish(): LiveState['entered'] {
      entered = []
      rescue(Infinity)
      return entered
    },
    /**
     * Takes frames out of the surface that a person leaves out. What was led on from the newest of them is lost, and led back to the newest that is left.
     * The surface begins anew when nothing is left.
     */
    leaveOut(list: Iterable<LiveFrame>): LiveState {
      begun()
      const wait = new Set<number>()
      let upTo = -Infinity
      for (const { time: at, xyz } of list) {
        wait.add(at)
        upTo = Math.max(upTo, at)
        const e = entries.get(at)
        if (!e || e.out) continue
        surface.takeFrame(xyz, e.pose, e.number)
        if (by !== 'markers') again.take(xyz, e.pose, e.number)
        e.out = true
        frames--
      }
      for (let i = waiting.length - 1; i >= 0; i--) if (wait.has(waiting[i].time)) waiting.splice(i, 1)
      const last = newest()
      if (!last) {
        beginAnew()
        state = markers ? 'lost' : 'first'
        pose = markers ? identity() : Float64Array.from(UPRIGHT)
        ghost = undefined
      } else if (upTo >= last.time) {
        state = 'lost'
        pose = steady = ghost = last.pose
      } else return tell('fits')
      proof = []
      back = undefined
      motion = STILL
      slid = contradicts = 0
      return tell('fits')
    },
    /** Brings frames into the surface again that were taken out, where they lay. */
    takeIn(list: Iterable<LiveFrame>): LiveState {
      begun()
      for (const { time: at, xyz } of list) {
        const e = entries.get(at)
        if (!e?.out) continue
        surface.addFrame(xyz, e.pose, e.number)
        if (by !== 'markers') again.add(xyz, e.pose, e.number)
        e.out = false
        frames++
      }
      return tell('fits')
    },
    feed(frame: LiveFrame): LiveState {
      begun()
      if (state === 'first') {
        if (frame.xyz.length < 3 * 200) return tell('elsewhere')
        add(frame, pose)
        state = 'steady'
        time = frame.time
        return tell('fits')
      }
      if (state === 'lost') {
        const found = find(frame)
        if (typeof found === 'string' || !found.laid) {
          wait(frame)
          return tell(typeof found === 'string' ? found : 'elsewhere')
        }
        state = 'finding'
        proof = [{ frame, pose: found.laid.pose }]
        return tell('fits', found)
      }
      if (state === 'finding') {
        const last = proof[proof.length - 1]
        const earlier = proof.at(-2)
        const moved = earlier ? between(earlier.pose, last.pose, last.frame.time - earlier.frame.time) : STILL
        const placed = follow(frame, last.pose, moved, Math.max(1, frame.time - last.frame.time))
        const { laid, verdict, held } = placed
        if (!laid || verdict.state !== 'steady' || (!held && verdict.hidden > FOUND_HIDDEN)) {
          for (const p of proof) wait(p.frame)
          proof = []
          state = 'lost'
          wait(frame)
          return tell(verdict.why, { ...placed, laid: undefined })
        }
        proof.push({ frame, pose: laid.pose })
        if (proof.length < PROOF) return tell('fits', placed)
        if (frames) span++
        pose = last.pose
        time = last.frame.time
        goOn(frame, laid)
        steady = pose
        back = { pose: proof[0].pose, motion: STILL, time: proof[0].frame.time }
        for (const p of proof) add(p.frame, p.pose)
        proof = []
        state = 'steady'
        ghost = undefined
        rescue(RESCUED_AT_ONCE)
        return tell('fits', placed)
      }
      const placed = follow(frame, pose, motion, Math.max(1, frame.time - time))
      const { laid, verdict, held } = placed
      const lose = (why: FrameReason) => {
        ghost = steady
        state = 'lost'
        motion = STILL
        slid = contradicts = 0
        back = undefined
        wait(frame)
        return tell(why, { ...placed, laid: undefined })
      }
      if (!laid || verdict.state === 'lost') return lose(verdict.why)
      if (held) {
        contradicts = verdict.why === 'off' || verdict.why === 'hidden' ? contradicts + 1 : 0
        slid = 0
      } else if (verdict.state === 'weak') slid++
      else {
        // it may have slid, and fit again where the part looks alike
        if (slid >= SLID && frames > 1 && again.alikeBeside(frame.xyz, laid)) return lose('alike')
        slid = 0
      }
      goOn(frame, laid)
      state = verdict.state
      if (state === 'steady') {
        steady = pose
        add(frame, pose)
        rescue(RESCUED_AT_ONCE)
      } else if (frames === 1 && !markers) {
        // what the first frame shows does not hold the next ones: a newer one may
        beginAnew()
        steady = pose
        add(frame, pose)
      }
      return tell(verdict.why, placed)
    },
  }
}
export type LiveTracker = ReturnType<typeof liveTracker>
