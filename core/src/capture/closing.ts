import { adjustJointly } from '../align/joint.ts'
import { f32 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { fromRotationVector, identity, invertRigid, multiply, orthonormalise, rotationVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { lot } from '../base/random.ts'
import type { RunContext } from '../base/run.ts'
import { leastKnownStretch, type Stretch } from './stretch.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'
import type { Placed, Points } from '../shape/points.ts'

/** A frame that was placed while one recorded. */
export interface TrackedFrame {
  /** ms */
  time: number
  /** 3N mm, scanner coordinates */
  xyz: Float32Array
  /** N, how bright each point is, where what is printed counts as well */
  levels?: Uint8Array | undefined
  /** scanner to model, as it was tracked */
  pose: Mat4
  /** what was found anew, and not led there from the frame before, begins another span. Default 0 for all */
  span?: number
}

export interface ClosingOptions {
  /** how well a frame is tracked against those just before it, mm (1 sigma): pieces may leave one another by so much. Default 0.1 */
  tracking?: number
  /** frames of a piece. Default 24 */
  frames?: number
  /** points of a piece. Default 60 000 */
  points?: number
}

/** Frames from..to - 1, of one span. */
interface Piece {
  from: number
  to: number
  span: number
}

export interface Closed {
  /** frame to model, in the order of the frames */
  poses: Mat4[]
  /** how far each frame was moved, mm at its middle */
  moved: Float64Array
  /** first frame of each piece, and how well its pose is known against the mean of all */
  pieces: (Piece & { pose: PoseUncertainty; sigma: number })[]
  /** where pieces that are not neighbours in time meet: how far apart they were, and the gaps that are left, rms of the pairs, mm; NaN where none meet */
  seam: { before: number; after: number }
  /** where it may have shrunk or slid */
  stretch: Stretch | undefined
  /** how many motions nothing holds, of single pieces and of groups of them */
  free: number
}

/** Pieces whose number differs by more are no neighbours in time: what they have in common closes a loop. */
const NEIGHBOURS = 2
export const FEWEST_FRAMES = 24

/**
 * After the stop: what was tracked frame by frame has drifted, and where the path meets earlier surface both ends do not meet. Frames are joined to pieces,
 * short enough that no drift shows within them; the pieces are adjusted like passes, all pairs at once (adjustJointly), and each frame follows the two pieces
 * it lies between, so that no step is left where one ends. frames: in the order of time, those that were placed; at least FEWEST_FRAMES of them.
 * Lengths in mm. Throws OakError 'too-short' when there are too few, and what adjustJointly throws.
 */
export async function closeLoops(frames: readonly TrackedFrame[], options: ClosingOptions, ctx: RunContext): Promise<Closed> {
  if (frames.length < FEWEST_FRAMES)
    throw new OakError('too-short', `${frames.length} frames are too few to be solved together.`, { remedy: `Record at least ${FEWEST_FRAMES} of them.` })
  // two pieces at least
  const pieces = cut(frames, Math.min(options.frames ?? 24, Math.floor(frames.length / 2)))
  const passes = pieces.map(({ from, to }, k) => pieceOf(frames, from, to, options.points ?? 60_000, k))
  const r = await adjustJointly(passes, { setups: new Int32Array(passes.length), tracking: options.tracking ?? 0.1 }, ctx)
  const middles = pieces.map(({ from, to }) => (from + to - 1) / 2)
  const moved = new Float64Array(frames.length)
  const poses = frames.map((f, i) => {
    const correction = between(middles, pieces, r.poses, i)
    const pose = orthonormalise(multiply(correction, f.pose))
    const at = middleOf(f)
    const to = transformPoint(correction, at[0], at[1], at[2])
    moved[i] = Math.hypot(to[0] - at[0], to[1] - at[1], to[2] - at[2])
    return pose
  })
  const far = r.pairs.filter((p) => Math.abs(p.a - p.b) > NEIGHBOURS)
  const centres = pieces.map(({ from, to }) => meanOf(frames.slice(from, to).map(middleOf)))
  const apart = far.map(({ a, b, count }) => {
    const at = meanOf([centres[a], centres[b]])
    const [p, q] = [a, b].map((k) => transformPoint(r.poses[k], at[0], at[1], at[2]))
    return [Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]), count]
  })
  return {
    poses,
    moved,
    pieces: pieces.map((p, k) => ({ ...p, pose: r.passes[k].pose, sigma: r.passes[k].sigma })),
    seam: { before: rmsOf(apart), after: rmsOf(far.map((p) => [p.mean, p.count])) },
    stretch: leastKnownStretch(
      pieces.map((_, k) => ({ pose: r.passes[k].pose, middle: transformPoint(r.poses[k], centres[k][0], centres[k][1], centres[k][2]) })),
    ),
    free: r.free.length + r.passes.reduce((s, p) => s + p.free.length, 0),
  }
}

/** Pieces of about that many frames; a span ends one. */
function cut(frames: readonly TrackedFrame[], many: number): Piece[] {
  const pieces: Piece[] = []
  for (let from = 0; from < frames.length;) {
    const span = frames[from].span ?? 0
    let to = from + 1
    while (to < frames.length && (frames[to].span ?? 0) === span) to++
    const n = Math.max(1, Math.round((to - from) / many))
    for (let k = 0; k < n; k++) pieces.push({ from: from + Math.floor((k * (to - from)) / n), to: from + Math.floor(((k + 1) * (to - from)) / n), span })
    from = to
  }
  return pieces
}

/** The points of a piece where they were tracked, some of them by lot; seen from where its middle frame was taken. */
function pieceOf(frames: readonly TrackedFrame[], from: number, to: number, most: number, k: number): Placed<Points> {
  let all = 0
  for (let i = from; i < to; i++) all += frames[i].xyz.length / 3
  const share = most / all
  const kept = f32(3 * Math.min(all, Math.ceil(1.1 * most) + 1000))
  let n = 0
  let number = 0
  for (let i = from; i < to; i++) {
    const { xyz, pose: p } = frames[i]
    for (let j = 0; j < xyz.length; j += 3) {
      if (lot(number++, k) >= share || 3 * n + 3 > kept.length) continue
      kept[3 * n] = p[0] * xyz[j] + p[1] * xyz[j + 1] + p[2] * xyz[j + 2] + p[3]
      kept[3 * n + 1] = p[4] * xyz[j] + p[5] * xyz[j + 1] + p[6] * xyz[j + 2] + p[7]
      kept[3 * n + 2] = p[8] * xyz[j] + p[9] * xyz[j + 1] + p[10] * xyz[j + 2] + p[11]
      n++
    }
  }
  const { pose } = frames[(from + to) >> 1]
  const xyz = f32(3 * n)
  xyz.set(kept.subarray(0, 3 * n))
  return { name: `frames ${from} to ${to - 1}`, data: { kind: 'points', xyz, viewpoint: [pose[3], pose[7], pose[11]] }, pose: identity() }
}

/** The correction of frame i: of the piece whose middle it is, and between two middles of one span, part of the one and part of the other. */
function between(middles: number[], pieces: readonly Piece[], corrections: readonly Mat4[], i: number): Mat4 {
  const k = pieces.findIndex((p) => i < p.to)
  const other = i < middles[k] ? k - 1 : k + 1
  if (other < 0 || other >= pieces.length || pieces[other].span !== pieces[k].span) return corrections[k]
  const t = Math.min(0.5, Math.abs((i - middles[k]) / (middles[other] - middles[k])))
  // from the one to the other: a small motion, of which the part t
  const d = multiply(corrections[other], invertRigid(corrections[k]))
  const w = rotationVector(d)
  const part = fromRotationVector(t * w[0], t * w[1], t * w[2])
  for (let c = 0; c < 3; c++) part[4 * c + 3] = t * d[4 * c + 3]
  return multiply(part, corrections[k])
}

/** Middle of what a frame shows, where it lies. */
export function middleOf({ xyz, pose }: Pick<TrackedFrame, 'xyz' | 'pose'>): number[] {
  const at = [0, 0, 0]
  for (let j = 0; j < xyz.length; j++) at[j % 3] += xyz[j]
  const n = Math.max(1, xyz.length / 3)
  return transformPoint(pose, at[0] / n, at[1] / n, at[2] / n)
}

const meanOf = (list: number[][]) => [0, 1, 2].map((k) => list.reduce((s, p) => s + p[k], 0) / list.length)
const rmsOf = (list: number[][]) => {
  const n = list.reduce((s, [, c]) => s + c, 0)
  return n ? Math.sqrt(list.reduce((s, [v, c]) => s + v * v * c, 0) / n) : NaN
}
