import { fromRotationVector, multiply, orthonormalise, rotateVector, transformPoint, type Mat4 } from '../base/mat4.ts'

/**
 * What an adjustment may move: six numbers for each slot, a turn about the slot's own middle (as the movement at its own lever, mm) and a shift (mm).
 * Middle and lever come from the surface of the slot itself, so that a part of 3 m and a detail 10 m from the origin are as well posed as any.
 */
export interface Unknowns {
  /** slot of each pass, -1 for one that stays put */
  slotOf: Int32Array
  count: number
  /** 3 a slot, in the job's coordinates */
  centre: Float64Array
  /** mm, a slot */
  lever: Float64Array
}

/** Middle (3) and lever of a pass in the job: mean place of its chosen surfels, and their rms distance from it. */
export function reach(xyz: Float32Array, index: ArrayLike<number>, pose: Mat4): { centre: [number, number, number]; lever: number } {
  const n = Math.max(1, index.length)
  const c = [0, 0, 0]
  for (let i = 0; i < index.length; i++) for (let k = 0; k < 3; k++) c[k] += xyz[3 * index[i] + k] / n
  let ss = 0
  for (let i = 0; i < index.length; i++) for (let k = 0; k < 3; k++) ss += (xyz[3 * index[i] + k] - c[k]) ** 2
  return { centre: transformPoint(pose, c[0], c[1], c[2]), lever: Math.max(Math.sqrt(ss / n), 1e-9) }
}

/** The small motion that a step of one slot stands for; sign -1 goes against it. */
export function motionOf(u: Unknowns, slot: number, step: ArrayLike<number>, at: number, sign = 1): Mat4 {
  const l = sign / u.lever[slot]
  const c = u.centre.subarray(3 * slot, 3 * slot + 3)
  const m = fromRotationVector(step[at] * l, step[at + 1] * l, step[at + 2] * l)
  const t = rotateVector(m, c[0], c[1], c[2])
  for (let k = 0; k < 3; k++) m[4 * k + 3] = c[k] - t[k] + sign * step[at + 3 + k]
  return m
}

/** Moves each pose against its slot's step; gives the largest movement, mm. */
export function applyStep(u: Unknowns, step: ArrayLike<number>, poses: Mat4[]): number {
  let largest = 0
  for (let i = 0; i < poses.length; i++) {
    const s = u.slotOf[i]
    if (s < 0) continue
    poses[i] = orthonormalise(multiply(motionOf(u, s, step, 6 * s, -1), poses[i]))
    for (let k = 0; k < 6; k++) largest = Math.max(largest, Math.abs(step[6 * s + k]))
  }
  return largest
}

/** How far unit numbers of a slot move a place: 3 x 6, row major. */
export function movementAt(u: Unknowns, slot: number, x: number, y: number, z: number, out: Float64Array): void {
  const l = u.lever[slot]
  const px = (x - u.centre[3 * slot]) / l
  const py = (y - u.centre[3 * slot + 1]) / l
  const pz = (z - u.centre[3 * slot + 2]) / l
  out.fill(0)
  out[1] = pz
  out[2] = -py
  out[6] = -pz
  out[8] = px
  out[12] = py
  out[13] = -px
  out[3] = out[10] = out[17] = 1
}
