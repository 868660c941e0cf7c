import { jacobiEigen } from '../base/eigen.ts'
import { fromRotationVector, invertRigid, multiply, orthonormalise, rotationVector, transformPoint, type Mat4 } from '../base/mat4.ts'
import { cholesky, choleskyInverse, choleskySolve, congruent } from '../base/solve.ts'

/*
 * Six small motions of a frame: a turn about its middle in units of 1 / lever, and a shift, so that all of them are lengths, mm, in the axes of the surface.
 */

/** Numbers of a row: J, the weight it pulls with (0 where it lies too far off), the weight it would have if it fitted, 1 / mm2, and how far off it lies, mm. */
export const ROW = 9

/** What a frame says of them, by its shape or by its print: normal equations, what of those is feigned by noise (both 6 x 6), and a row a point. */
export interface Says {
  h: Float64Array
  feigned: Float64Array
  g: Float64Array
  rows: Float64Array
  count: number
}
export const nothingSaid = (): Says => ({
  h: new Float64Array(36),
  feigned: new Float64Array(36),
  g: new Float64Array(6),
  rows: new Float64Array(0),
  count: 0,
})
export function clear(s: Says): void {
  s.h.fill(0)
  s.feigned.fill(0)
  s.g.fill(0)
  s.count = 0
}
/** Of what was added up the lower triangle is there. */
export function mirror(s: Says): void {
  for (let r = 0; r < 6; r++)
    for (let q = 0; q < r; q++) {
      s.h[6 * q + r] = s.h[6 * r + q]
      s.feigned[6 * q + r] = s.feigned[6 * r + q]
    }
}

/** What holds a frame besides its shape: markers. */
export interface Held {
  /** scanner to surface */
  pose: Mat4
  /** 6 x 6: turn (rad) and shift (mm) of the surface against the scanner, in its axes */
  covariance: Float64Array
}
/** The same as information about the motions of a frame, and after a step together with what its shape says. */
export interface HeldThere {
  held: Held
  information: Float64Array
  joint: Float64Array
  lever: number
}

/**
 * Points that hold a motion, in effect: below FEWEST it is not held, and what fewer than some HOLDING say counts for less. A few always lie on the wrong one of
 * two faces: where four of two thousand were all that held a frame along a direction, they pulled it 0.6 mm aside and stated 0.06. Tried: nothing below 30 and
 * all above (of 1560 frames of a bracket 1133 were placed, 1208 since, none further off); 6 in place of 15 (1287, but frames before a row of ribs 0.9 mm off that
 * stated 0.1).
 */
const FEWEST = 15
const HOLDING = 30
/** By what a stated error is larger where few points hold a motion. Infinity: it is not held */
export const byFew = (points: number): number => (points < FEWEST ? Infinity : 1 + HOLDING / points)

/** share of what is told that is no noise */
const HALF = 0.5

/**
 * The motions that a shape, or a print, knows: as unit vectors (columns), the step along each, mm, and what is said of it, 1 / mm2; both 0 where it says nothing.
 * whole: noise in what is told makes a step too short (Fuller 1987), which is made up for; where most of it is noise, none is better. A print wants that, of which
 * half may be noise; of shape alone fewer places were found again so (50 mm and 12 degrees beside, one of three).
 */
function known({ h, feigned, g, rows, count }: Says, every: number, strict = false, whole = false, damped = true) {
  const { values, vectors } = jacobiEigen(h, 6)
  const { points, agree } = holding(rows, count, vectors)
  const step = new Float64Array(6)
  const said = new Float64Array(6)
  for (let k = 0; k < 6; k++) {
    let along = 0
    let noisy = 0
    for (let r = 0; r < 6; r++) {
      along += vectors[6 * r + k] * g[r]
      for (let q = 0; q < 6; q++) noisy += vectors[6 * r + k] * feigned[6 * r + q] * vectors[6 * q + k]
    }
    const told = values[k] - noisy
    if (!(told > 0) || points[k] < FEWEST || (strict && agree[k] < AGREE)) continue
    const share = told / values[k]
    step[k] = -(along / values[k]) * (whole ? (share > HALF ? 1 / share : share / HALF ** 2) : damped ? share : 1)
    said[k] = ((whole ? share : 1) * told) / byFew(every * points[k]) ** 2
  }
  return { vectors, step, said }
}

/** The step along each motion, as far as what is said of it is not feigned. */
export function stepOf(says: Says, damped: boolean): Float64Array {
  const { vectors, step } = known(says, 1, false, false, damped)
  const d = new Float64Array(6)
  for (let k = 0; k < 6; k++) for (let r = 0; r < 6; r++) d[r] += step[k] * vectors[6 * r + k]
  return d
}

/**
 * The step by shape and what holds it besides. together2: variance that all points of a frame share, mm2, of which more points know nothing: without it
 * fourteen thousand of them would outweigh any marker, and the frame would drift with the surface. every: of so many points one was asked
 */
export function jointStep(says: Says, every: number, together2: number, there: HeldThere, pose: Mat4, middle: readonly number[]): Float64Array {
  const { vectors, step, said } = known(says, every)
  const { held, information, lever, joint } = there
  const d = multiply(pose, invertRigid(held.pose))
  const w = rotationVector(d)
  const was = transformPoint(invertRigid(d), middle[0], middle[1], middle[2])
  const off = [0, 1, 2].map((k) => lever * w[k]).concat([0, 1, 2].map((k) => middle[k] - was[k]))
  const g = new Float64Array(6)
  joint.set(information)
  for (let r = 0; r < 6; r++) for (let q = 0; q < 6; q++) g[r] -= information[6 * r + q] * off[q]
  for (let k = 0; k < 6; k++) {
    if (said[k] === 0) continue
    const worth = 1 / (1 / said[k] + together2)
    for (let r = 0; r < 6; r++) {
      g[r] += worth * step[k] * vectors[6 * r + k]
      for (let q = 0; q < 6; q++) joint[6 * r + q] += worth * vectors[6 * r + k] * vectors[6 * q + k]
    }
  }
  const l = cholesky(joint, 6)
  return l ? choleskySolve(l, g, 6) : new Float64Array(6)
}

/**
 * The step by shape and print together, each by what it says of each motion: what noise feigns in the one takes nothing of what the other tells. Gives what both
 * say, 1 / mm2, along its own axes. strict: nothing is told of a motion by a few against the rest
 */
export function stepTogether(sources: readonly Says[], every: number, strict: boolean): { step: Float64Array; values: Float64Array; vectors: Float64Array } {
  const joint = new Float64Array(36)
  const g = new Float64Array(6)
  for (const s of sources) {
    const { vectors, step, said } = known(s, every, strict, true)
    for (let k = 0; k < 6; k++)
      for (let r = 0; r < 6; r++) {
        g[r] += said[k] * step[k] * vectors[6 * r + k]
        for (let q = 0; q < 6; q++) joint[6 * r + q] += said[k] * vectors[6 * r + k] * vectors[6 * q + k]
      }
  }
  const { values, vectors } = jacobiEigen(joint, 6)
  const step = new Float64Array(6)
  const least = 1e-9 * Math.max(...values)
  for (let k = 0; k < 6; k++) {
    if (values[k] <= least) continue
    let along = 0
    for (let r = 0; r < 6; r++) along += vectors[6 * r + k] * g[r]
    for (let r = 0; r < 6; r++) step[r] += (along / values[k]) * vectors[6 * r + k]
  }
  return { step, values: Float64Array.from(values, (v) => (v > least ? v : 0)), vectors }
}

/** What is held, about the middle of a frame (of the surface) that lies at `pose`. */
export function heldAt(held: Held, pose: Mat4, middle: readonly number[], lever: number): HeldThere {
  const l = cholesky(covarianceAt(held, transformPoint(invertRigid(pose), middle[0], middle[1], middle[2]), lever), 6)
  return { held, information: l ? choleskyInverse(l, 6) : new Float64Array(36), joint: new Float64Array(36), lever }
}

/** How well the motions about a place of the frame (of the scanner, mm) are known: 6 x 6, mm2. */
export function covarianceAt(held: Held, [x, y, z]: readonly number[], lever: number): Float64Array {
  // the surface turned by w and shifted by t against the scanner: what lies at m goes by -R (w x m + t), and turns by -R w
  const cross = [0, -z, y, z, 0, -x, -y, x, 0]
  const j = new Float64Array(36)
  for (let r = 0; r < 3; r++)
    for (let c = 0; c < 3; c++) {
      j[6 * r + c] = -lever * held.pose[4 * r + c]
      j[6 * (r + 3) + c + 3] = -held.pose[4 * r + c]
      for (let k = 0; k < 3; k++) j[6 * (r + 3) + c] += held.pose[4 * r + k] * cross[3 * k + c]
    }
  return congruent(j, held.covariance)
}

/** A pose after turning about the middle (units of 1 / lever) and shifting. */
export function moved(pose: Mat4, d: Float64Array, middle: readonly number[], lever: number): Mat4 {
  const turn = fromRotationVector(d[0] / lever, d[1] / lever, d[2] / lever)
  for (let k = 0; k < 3; k++) turn[4 * k + 3] = middle[k] + d[3 + k] - turn[4 * k] * middle[0] - turn[4 * k + 1] * middle[1] - turn[4 * k + 2] * middle[2]
  return orthonormalise(multiply(turn, pose))
}

/**
 * Share of what is near, and could tell of a motion, that has to say the same: else what holds it are a few points that lie on the wrong faces. Measured on a
 * row of ribs: 0.84 and more where frames lay right, 0.005 to 0.5 where they came to rest up to 1.2 mm beside, stating 0.1.
 */
export const AGREE = 0.6

/**
 * How many points hold each of six motions, in effect (Kish 1965): the square of the sum of what each says of it, over the sum of the squares; and the share of
 * those near it that agree, 0..1. vectors: 6 x 6, motions as columns.
 */
export function holding(rows: Float64Array, count: number, vectors: Float64Array): { points: Float64Array; agree: Float64Array } {
  const sum = new Float64Array(6)
  const squares = new Float64Array(6)
  const all = new Float64Array(6)
  for (let i = 0; i < ROW * count; i += ROW)
    for (let k = 0; k < 6; k++) {
      let along = 0
      for (let r = 0; r < 6; r++) along += rows[i + r] * vectors[6 * r + k]
      const says = rows[i + 6] * along * along
      sum[k] += says
      squares[k] += says * says
      all[k] += rows[i + 7] * along * along
    }
  return { points: sum.map((v, k) => (v * v) / Math.max(squares[k], 1e-300)), agree: sum.map((v, k) => v / Math.max(all[k], 1e-300)) }
}

/** cosine from which on a point tells of a motion; places along it that are tried, in gates; more of what would tell has to agree there, by this */
const TELLS = 0.3
const FINE = 0.5
const BETTER = 1.25

/**
 * A frame that came to rest where a few points hold it against what most would tell: the step along the motion that least agrees to where most of them do, with
 * everything else as it is. The shape is taken as planes. gate: mm within which a point agrees; reach: mm along which is looked. Undefined where all agree, or
 * no other place is better.
 */
export function seek({ h, rows, count }: Says, gate: number, reach: number): Float64Array | undefined {
  const { vectors } = jacobiEigen(h, 6)
  const { agree } = holding(rows, count, vectors)
  const k = agree.indexOf(Math.min(...agree))
  if (agree[k] >= AGREE) return undefined
  const motion = Float64Array.from({ length: 6 }, (_, r) => vectors[6 * r + k])
  const agreeing = (t: number): number => {
    let sum = 0
    for (let i = 0; i < ROW * count; i += ROW) {
      let along = 0
      for (let r = 0; r < 6; r++) along += rows[i + r] * motion[r]
      if (along * along < TELLS * TELLS) continue
      // what is told less well by itself agrees from farther off
      const u = (rows[i + 8] + t * along) / Math.max(gate, 3 / Math.sqrt(rows[i + 7]))
      sum += (rows[i + 7] * along * along) / (1 + u * u) ** 2
    }
    return sum
  }
  let best = 0
  let most = BETTER * agreeing(0)
  for (let t = -reach; t <= reach; t += FINE * gate) {
    const v = agreeing(t)
    if (v > most) {
      most = v
      best = t
    }
  }
  return best === 0 ? undefined : motion.map((v) => best * v)
}

/**
 * What tilts of that weight add to the information by chance: the mean of dJ dJ' for rows J = (p x n, n) whose normals scatter within the surface, T = I - n n':
 * [p]T[p]', [p]T and T. The same of changes of brightness, which scatter within the surface as well. row: J. Fills the lower triangle.
 */
export function feign(px: number, py: number, pz: number, nx: number, ny: number, nz: number, row: Float64Array, weight: number, out: Float64Array): void {
  // [p] T [p]' is the same as |p|2 I - p p' - (p x n)(p x n)'
  const pp = px * px + py * py + pz * pz
  out[0] += weight * (pp - px * px - row[0] * row[0])
  out[6] += weight * (-px * py - row[0] * row[1])
  out[7] += weight * (pp - py * py - row[1] * row[1])
  out[12] += weight * (-px * pz - row[0] * row[2])
  out[13] += weight * (-py * pz - row[1] * row[2])
  out[14] += weight * (pp - pz * pz - row[2] * row[2])
  // T [p]' = [p]' - n (p x n)'
  out[18] += weight * (-nx * row[0])
  out[19] += weight * (pz - nx * row[1])
  out[20] += weight * (-py - nx * row[2])
  out[24] += weight * (-pz - ny * row[0])
  out[25] += weight * (-ny * row[1])
  out[26] += weight * (px - ny * row[2])
  out[30] += weight * (py - nz * row[0])
  out[31] += weight * (-px - nz * row[1])
  out[32] += weight * (-nz * row[2])
  out[21] += weight * (1 - nx * nx)
  out[27] += weight * (-ny * nx)
  out[28] += weight * (1 - ny * ny)
  out[33] += weight * (-nz * nx)
  out[34] += weight * (-nz * ny)
  out[35] += weight * (1 - nz * nz)
}
