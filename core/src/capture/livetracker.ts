import { fromRotationVector, identity, invertRigid, multiply, translation, type Mat4 } from '../base/mat4.ts'
import { growingSurface } from './surface.ts'
import { shapeTracker, type ShapePose } from './trackshape.ts'
import { judgeFrame, type FrameReason, type FrameState } from './verdict.ts'

export interface LiveFrame {
  /** ms */
  time: number
  /** 3N mm, scanner coordinates */
  xyz: Float32Array
}

export interface LiveOptions {
  /** spacing that is wanted, mm: the cubes of the surface */
  spacing: number
  /** noise of a point across its surface, mm */
  noise: number
  /** largest error of a frame's place along any motion, mm (1 sigma). Default 0.3 */
  error?: number
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
/** cubes of the rough surface by which a place is found again, in cubes of the fine one, and the share of points that it is made from */
const ROUGH = 4
const ROUGH_SHARE = 4
/** of a place that is found again: more of it must meet surface, and less be hidden, than of one that was led there */
const FOUND_MET = 0.55
const FOUND_HIDDEN = 0.015
/** starts beside a found place, mm and rad: what comes to rest elsewhere and fits as well says that the part looks alike there */
const BESIDE = [12, 25]
const BESIDE_TURN = 0.12
/** further from one another than this, mm at the lever, two places are two */
const TWO = 2

/**
 * Tracks frames by their shape as they come. A frame enters the surface when it fits, is held in all six motions, contradicts nothing, and lies where a hand can
 * have brought the scanner; else it waits. When the place was found again, near where it was lost, and has held for PROOF frames, those that wait are tried
 * backwards from there. Nothing that was not steady is ever added; as long as the first frame holds none, a newer one begins the surface anew. Weak frames, and
 * the oldest of too many that wait, are not kept here: whoever records keeps all frames.
 */
export function liveTracker(o: LiveOptions) {
  const begin = () => {
    const surface = growingSurface(o.spacing, o.noise)
    const rough = growingSurface(ROUGH * o.spacing, o.noise)
    return {
      surface,
      rough,
      lay: shapeTracker(surface, { noise: o.noise }),
      layRoughly: shapeTracker(rough, { noise: o.noise, gate: 2 * ROUGH * o.spacing, points: 800 }),
    }
  }
  let { surface, rough, lay, layRoughly } = begin()
  const error = o.error ?? 0.3
  let frames = 0
  let pose = identity()
  let motion = identity()
  let time = 0
  let state: LiveState['state'] = 'first'
  /** last steady place: a weak one may have slid */
  let steady = pose
  /** that place while it is lost: where one is led back to */
  let ghost: Mat4 | undefined
  const waiting: LiveFrame[] = []
  /** weak frames on end */
  let slid = 0
  /** frames of a place that has to prove itself */
  let proof: { frame: LiveFrame; pose: Mat4 }[] = []

  let entered: LiveState['entered'] = []
  let span = 0
  let anew = false
  const add = ({ xyz, time }: LiveFrame, p: Mat4) => {
    entered.push({ time, pose: p })
    surface.addFrame(xyz, p, frames)
    rough.addFrame(xyz, p, frames, ROUGH_SHARE)
    frames++
  }
  const tell = (why: FrameReason, laid: ShapePose | undefined, hidden: number, rescued = 0): LiveState => ({
    state,
    why,
    pose,
    laid,
    hidden,
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
  const follow = (frame: LiveFrame, from: Mat4, by: Mat4, since: number) => {
    const predicted = multiply(by, from)
    const laid = lay(frame.xyz, predicted)
    return { laid, verdict: judgeFrame(surface, frame.xyz, laid, predicted, { error: frames < YOUNG ? Math.max(error, YOUNG_ERROR) : error, since }) }
  }

  /** Lays a frame roughly, then finely, where it has to prove itself; but: not there. */
  const settle = (frame: LiveFrame, start: Mat4, but?: ShapePose): ShapePose | undefined => {
    const near = layRoughly(frame.xyz, start)
    // it would end there
    if (near && but && apart(near, but) < TWO) return undefined
    const laid = near && lay(frame.xyz, near.pose)
    if (!laid || laid.met < FOUND_MET) return undefined
    const v = judgeFrame(surface, frame.xyz, laid, laid.pose, { error, since: 0 })
    return v.state === 'steady' && v.hidden < FOUND_HIDDEN ? laid : undefined
  }
  /** Whether a frame could as well lie beside where it was found. */
  const alike = (frame: LiveFrame, found: ShapePose): boolean => {
    const [x, y, z] = found.middle
    for (const far of BESIDE)
      for (let axis = 0; axis < 6; axis++) {
        const side = axis % 2 ? -far : far
        const shift = [0, 0, 0]
        shift[axis >> 1] = side
        const turn = [0, 0, 0]
        turn[((axis >> 1) + 1) % 3] = (Math.sign(side) * BESIDE_TURN * far) / BESIDE[1]
        // about the middle of what is seen
        const d = multiply(
          translation(x + shift[0], y + shift[1], z + shift[2]),
          multiply(fromRotationVector(turn[0], turn[1], turn[2]), translation(-x, -y, -z)),
        )
        const other = settle(frame, multiply(d, found.pose), found)
        if (other && other.fits > 0.9 * found.fits && apart(other, found) > TWO) return true
      }
    return false
  }
  /** Looks for the place near the ghost. */
  const find = (frame: LiveFrame): ShapePose | FrameReason => {
    const found = ghost && settle(frame, ghost)
    if (!found) return 'elsewhere'
    return alike(frame, found) ? 'alike' : found
  }

  /** Frames that wait, tried backwards from the place that was found. */
  const rescue = (from: Mat4, at: number): number => {
    let [p, by, t, count] = [from, identity(), at, 0]
    while (waiting.length) {
      const frame = waiting[waiting.length - 1]
      const { laid, verdict } = follow(frame, p, by, Math.abs(t - frame.time))
      if (!laid || verdict.state !== 'steady') break
      by = multiply(laid.pose, invertRigid(p))
      p = laid.pose
      t = frame.time
      add(frame, p)
      waiting.pop()
      count++
    }
    return count
  }

  return {
    surface: () => surface,
    /** frames in the surface */
    frames: () => frames,
    ghost: () => ghost,
    feed(frame: LiveFrame): LiveState {
      entered = []
      anew = false
      if (state === 'first') {
        if (frame.xyz.length < 3 * 200) return tell('elsewhere', undefined, 0)
        add(frame, pose)
        state = 'steady'
        time = frame.time
        return tell('fits', undefined, 0)
      }
      if (state === 'lost') {
        const found = find(frame)
        if (typeof found === 'string') {
          wait(frame)
          return tell(found, undefined, 0)
        }
        state = 'finding'
        proof = [{ frame, pose: found.pose }]
        return tell('fits', found, 0)
      }
      if (state === 'finding') {
        const last = proof[proof.length - 1]
        const by = proof.length > 1 ? multiply(last.pose, invertRigid(proof[proof.length - 2].pose)) : identity()
        const { laid, verdict } = follow(frame, last.pose, by, Math.max(1, frame.time - last.frame.time))
        if (!laid || verdict.state !== 'steady' || verdict.hidden > FOUND_HIDDEN) {
          for (const p of proof) wait(p.frame)
          proof = []
          state = 'lost'
          wait(frame)
          return tell(verdict.why, undefined, verdict.hidden)
        }
        proof.push({ frame, pose: laid.pose })
        if (proof.length < PROOF) return tell('fits', laid, verdict.hidden)
        span++
        const rescued = rescue(proof[0].pose, proof[0].frame.time)
        for (const p of proof) add(p.frame, p.pose)
        motion = multiply(laid.pose, invertRigid(last.pose))
        pose = steady = laid.pose
        time = frame.time
        proof = []
        state = 'steady'
        ghost = undefined
        return tell('fits', laid, verdict.hidden, rescued)
      }
      const { laid, verdict } = follow(frame, pose, motion, Math.max(1, frame.time - time))
      const lose = (why: FrameReason) => {
        ghost = steady
        state = 'lost'
        motion = identity()
        slid = 0
        wait(frame)
        return tell(why, undefined, verdict.hidden)
      }
      if (!laid || verdict.state === 'lost') return lose(verdict.why)
      if (verdict.state === 'weak') slid++
      else {
        // it may have slid, and fit again where the part looks alike
        if (slid >= SLID && frames > 1 && alike(frame, laid)) return lose('alike')
        slid = 0
      }
      motion = multiply(laid.pose, invertRigid(pose))
      pose = laid.pose
      time = frame.time
      state = verdict.state
      if (state === 'steady') {
        steady = pose
        add(frame, pose)
      } else if (frames === 1) {
        // what the first frame shows does not hold the next ones: a newer one may
        ;({ surface, rough, lay, layRoughly } = begin())
        frames = 0
        anew = true
        steady = pose
        add(frame, pose)
      }
      return tell(verdict.why, laid, verdict.hidden)
    },
  }
}
export type LiveTracker = ReturnType<typeof liveTracker>

/** How far apart two places of a frame are, mm at its lever. */
function apart(a: ShapePose, b: ShapePose): number {
  const d = multiply(a.pose, invertRigid(b.pose))
  const [x, y, z] = b.middle
  const at = [0, 1, 2].map((k) => d[4 * k] * x + d[4 * k + 1] * y + d[4 * k + 2] * z + d[4 * k + 3] - b.middle[k])
  const turn = Math.hypot(d[9] - d[6], d[2] - d[8], d[4] - d[1]) / 2
  return Math.hypot(...at, turn * b.lever)
}
