import { cholesky, choleskySolve } from '../base/solve.ts'
import { invertRigid } from '../base/mat4.ts'
import type { AdjustResult, Sightings } from './adjust.ts'
import { invertSymmetric3, turnSymmetric3, type SightModel } from './sight.ts'

/** standard deviations beyond which a sighting pulls with constant force, as in the adjustment */
const HUBER = 2.5
/** Share of a motion's information that is left when the other motions are free; below it the others do not hold the pose, and what is left is rounding. */
const LEAST = 1e-7

/**
 * Of each sighting, how far beside its marker's place it lies by a pose that the *other* markers of its frame give (deleted residual; Cook and Weisberg 1982,
 * 2.2): a marker that moved pulls the poses after itself, the more the fewer markers a frame shows, and seen by them it has moved less, and others have.
 * One Gauss-Newton step from the solved pose. Measured: with 7 markers strewn over 400 x 300 mm and one moved by 1.5 mm, two others were named by the poses
 * with it, none by those without. out: offset 3n, mm, and its information 6n (xx xy xz yy yz zz, px^2/mm^2, of sight and of that pose), both in
 * map axes; an information of zeros where the others do not determine the pose.
 */
export function deletedResiduals(
  s: Sightings,
  { poses, positions, normalised }: Pick<AdjustResult, 'poses' | 'positions' | 'normalised'>,
  sight: SightModel,
): { offset: Float64Array; info: Float64Array } {
  const n = s.frame.length
  const offset = new Float64Array(3 * n)
  const info = new Float64Array(6 * n)
  const byFrame: number[][] = []
  for (let i = 0; i < n; i++) (byFrame[s.frame[i]] ??= []).push(i)
  const w = new Float64Array(6)
  const covariance = new Float64Array(6)
  byFrame.forEach((list, f) => {
    const pose = poses[f]
    const back = invertRigid(pose)
    const k = list.length
    const j = new Float64Array(18 * k)
    const wj = new Float64Array(18 * k)
    const weights = new Float64Array(6 * k)
    const r = new Float64Array(3 * k)
    // 21 numbers would do; the whole matrix is what the solver takes
    const all = new Float64Array(36)
    const pull = new Float64Array(6)
    const own = new Float64Array(36)
    list.forEach((i, a) => {
      const p = 3 * s.marker[i]
      const at = [0, 1, 2].map((c) => pose[4 * c] * positions[p] + pose[4 * c + 1] * positions[p + 1] + pose[4 * c + 2] * positions[p + 2] + pose[4 * c + 3])
      for (let c = 0; c < 3; c++) r[3 * a + c] = s.xyz[3 * i + c] - at[c]
      sight(s.xyz[3 * i], s.xyz[3 * i + 1], s.xyz[3 * i + 2], w)
      weights.set(w, 6 * a)
      const h = normalised[i] > HUBER ? HUBER / normalised[i] : 1
      derivatives(at, j, 18 * a)
      weighed(w, h, j, wj, 18 * a)
      product(j, wj, own, 18 * a)
      for (let q = 0; q < 36; q++) all[q] += own[q]
      for (let c = 0; c < 6; c++) pull[c] += dot3(wj, r, 18 * a + c, 3 * a)
    })
    list.forEach((i, a) => {
      product(j, wj, own, 18 * a)
      const others = all.map((v, q) => v - own[q])
      // fewer than three others leave the pose free
      const factor = k > 3 ? cholesky(others, 6) : undefined
      if (!factor || !holds(factor, others)) return
      const g = pull.map((v, c) => v - dot3(wj, r, 18 * a + c, 3 * a))
      const step = choleskySolve(factor, g, 6)
      const left = [0, 1, 2].map((row) => {
        let t = r[3 * a + row]
        for (let c = 0; c < 6; c++) t -= j[18 * a + 6 * row + c] * step[c]
        return t
      })
      for (let c = 0; c < 3; c++) offset[3 * i + c] = back[4 * c] * left[0] + back[4 * c + 1] * left[1] + back[4 * c + 2] * left[2]
      // of the sight, and of the pose there
      if (!invertSymmetric3(weights, covariance, 6 * a)) return
      const columns = [0, 1, 2].map((row) => choleskySolve(factor, j.subarray(18 * a + 6 * row, 18 * a + 6 * row + 6), 6))
      for (let row = 0, o = 0; row < 3; row++)
        for (let c = row; c < 3; c++, o++) for (let q = 0; q < 6; q++) covariance[o] += j[18 * a + 6 * row + q] * columns[c][q]
      if (invertSymmetric3(covariance, w)) turnSymmetric3(back, w, info, 0, 6 * i)
    })
  })
  return { offset, info }
}

/** Whether a matrix and its factor hold all six motions; markers on one line leave the turn about it free. */
function holds(factor: Float64Array, of: Float64Array): boolean {
  for (let c = 0; c < 6; c++) if (!(factor[7 * c] ** 2 > LEAST * of[7 * c])) return false
  return true
}

/** A small turn on the left moves a place by turn x place, a small shift by itself: 3 x 6. */
function derivatives(at: number[], out: Float64Array, o: number): void {
  out[o + 1] = at[2]
  out[o + 2] = -at[1]
  out[o + 6] = -at[2]
  out[o + 8] = at[0]
  out[o + 12] = at[1]
  out[o + 13] = -at[0]
  out[o + 3] = out[o + 10] = out[o + 17] = 1
}

function weighed(w: Float64Array, h: number, j: Float64Array, out: Float64Array, o: number): void {
  for (let c = 0; c < 6; c++) {
    const [x, y, z] = [j[o + c], j[o + 6 + c], j[o + 12 + c]]
    out[o + c] = h * (w[0] * x + w[1] * y + w[2] * z)
    out[o + 6 + c] = h * (w[1] * x + w[3] * y + w[4] * z)
    out[o + 12 + c] = h * (w[2] * x + w[4] * y + w[5] * z)
  }
}

/** J' W J. */
function product(j: Float64Array, wj: Float64Array, out: Float64Array, o: number): void {
  for (let r = 0; r < 6; r++) for (let c = 0; c < 6; c++) out[6 * r + c] = j[o + r] * wj[o + c] + j[o + 6 + r] * wj[o + 6 + c] + j[o + 12 + r] * wj[o + 12 + c]
}

const dot3 = (wj: Float64Array, r: Float64Array, column: number, o: number) => wj[column] * r[o] + wj[column + 6] * r[o + 1] + wj[column + 12] * r[o + 2]
