import { invertRigid, multiply, rotationAngleDeg, transformPoint, type Mat4 } from '../base/mat4.ts'
import { doubledShare, KNOWN } from './doubled.ts'
import type { GrowingSurface } from './surface.ts'
import type { ShapePose } from './trackshape.ts'

/** How a frame stands to the surface that is known. Only steady ones may enter it. */
export type FrameState = 'steady' | 'weak' | 'lost'
export type FrameReason =
  | 'fits'
  /** hardly any of it meets surface that is known */
  | 'elsewhere'
  /** what meets surface does not lie on it, or lies beside it where it was seen to be elsewhere */
  | 'off'
  /** it lies where surface that is known would hide it */
  | 'hidden'
  /** no hand moves so fast */
  | 'jump'
  /** something is free: the frame could slide or turn and fit as well */
  | 'free'
  /** where it was lost it fits, and beside that as well: the part looks alike there */
  | 'alike'
  /** it fits, but what frames before contradicted has not been seen again as it was */
  | 'moved'

export interface Verdict {
  state: FrameState
  why: FrameReason
  /** share of the frame's points that known surface hides, 0..1 */
  hidden: number
  /** from where the frame was predicted, mm at its middle and with its turn at its lever */
  jump: number
}

export interface VerdictLimits {
  /** largest error of a frame's place along any motion, mm (1 sigma) */
  error: number
  /** ms since the last frame that was placed */
  since: number
  /** markers hold it: it may be anywhere; where it meets surface that it does not lie on, one of both has moved */
  held?: boolean
}

const LEAST_MET = 0.3
const LEAST_FITTING = 0.75
/** points that meet surface: fewer do not speak against markers, nor can they tell a small part that was nudged */
const FEW = 60
const MOST_RMS = 1.6
const MOST_HIDDEN = 0.04
/** measured: 0.002 at the most in frames that lie where they belong, glossy ones too; 0.03 when a part of a tenth of what is seen moved by 2 mm */
const MOST_DOUBLED = 0.003
/** a hand speeds up by so much at the most, mm/s2: some three times what a jerk at a scanner of 1 kg measures (common practice, no source) */
const HARDEST = 15_000
/** and it trembles and the first frames of a movement come unexpected, mm */
const SLACK = 3
/** Points that are asked whether they could be seen. */
const ASKED = 400

/** Judges where a frame was laid, after how it was predicted. xyz: 3N mm, scanner coordinates. Pure; allocates next to nothing. */
export function judgeFrame(surface: GrowingSurface, xyz: Float32Array, laid: ShapePose | undefined, predicted: Mat4, limits: VerdictLimits): Verdict {
  if (!laid || (laid.met < LEAST_MET && !limits.held)) return { state: 'lost', why: 'elsewhere', hidden: 0, jump: 0 }
  const { pose, middle, lever } = laid
  const moved = multiply(pose, invertRigid(predicted))
  const to = transformPoint(invertRigid(moved), middle[0], middle[1], middle[2])
  const jump = Math.hypot(middle[0] - to[0], middle[1] - to[1], middle[2] - to[2], (rotationAngleDeg(moved) * Math.PI * lever) / 180)
  const hidden = hiddenShare(surface, xyz, pose)
  const lost = (why: FrameReason): Verdict => ({ state: limits.held ? 'weak' : 'lost', why, hidden, jump })
  const few = limits.held && laid.met * (xyz.length / 3) < FEW
  if (laid.met >= LEAST_MET && !few && (laid.fits < LEAST_FITTING * laid.met || laid.rms > MOST_RMS * laid.expected)) return lost('off')
  if (hidden > MOST_HIDDEN) return lost('hidden')
  if (doubledShare(surface, xyz, pose) > MOST_DOUBLED) return lost('off')
  const seconds = limits.since / 1000
  if (!limits.held && jump > SLACK + 0.5 * HARDEST * seconds * seconds) return lost('jump')
  if (!(Math.max(...laid.sigmas) <= limits.error)) return { state: 'weak', why: 'free', hidden, jump }
  return { state: 'steady', why: 'fits', hidden, jump }
}

/** Share of a frame's points that surface which is known would hide from the scanner. by: takes the cubes that would. */
export function hiddenShare(surface: GrowingSurface, xyz: Float32Array, pose: Mat4, by?: (cube: number) => void): number {
  const step = 3 * Math.max(1, Math.floor(xyz.length / 3 / ASKED))
  // what lies on the surface itself hides nothing, nor do the rims of steps within the noise
  const off = 3 * surface.side
  let [asked, hidden] = [0, 0]
  for (let i = 0; i < xyz.length; i += step) {
    const x = pose[0] * xyz[i] + pose[1] * xyz[i + 1] + pose[2] * xyz[i + 2] + pose[3]
    const y = pose[4] * xyz[i] + pose[5] * xyz[i + 1] + pose[6] * xyz[i + 2] + pose[7]
    const z = pose[8] * xyz[i] + pose[9] * xyz[i + 1] + pose[10] * xyz[i + 2] + pose[11]
    asked++
    const cube = surface.hiddenBy(x, y, z, pose[3], pose[7], pose[11], off, REACH, KNOWN)
    if (cube < 0) continue
    hidden++
    by?.(cube)
  }
  return asked ? hidden / asked : 0
}
/** mm from a point on in which something may hide it: a part that is looked at stands before what is behind it by no more */
const REACH = 250
