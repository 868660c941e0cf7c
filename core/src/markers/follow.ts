import type { Mat4 } from '../base/mat4.ts'
import { invertRigid, transformPoint } from '../base/mat4.ts'
import { nearestKnown, type Constellation } from './constellation.ts'
import { framePose } from './framepose.ts'
import { invertSymmetric3, quadratic3, type SightModel } from './sight.ts'

/** Markers of one frame with what is known of each: 6n information and covariance for a noise of 1. */
export interface Sighted {
  xyz: ArrayLike<number>
  diameters: ArrayLike<number>
  info: Float64Array
  cov: Float64Array
}

/** one place holds one marker: a sighting so near belongs to it even when it does not fit, mm */
export const SAME_PLACE = 2.5
/** normalised distance within which a sighting is its marker's */
const GATE = 5

/** diameters of two markers, 0 where they are not known */
export const differ = (a: number, b: number) => a > 0 && b > 0 && Math.abs(a - b) > 1.2

/** A frame (3n mm, n mm) with what `sight` knows of each place. */
export function sighted(sight: SightModel, xyz: ArrayLike<number>, diameters: ArrayLike<number>): Sighted {
  const n = diameters.length
  const info = new Float64Array(6 * n)
  const cov = new Float64Array(6 * n)
  for (let i = 0; i < n; i++) {
    sight(xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2], one)
    info.set(one, 6 * i)
    invertSymmetric3(one, cov, 0, 6 * i)
  }
  return { xyz, diameters, info, cov }
}

/**
 * Pairs markers by a pose (map to scanner) that is nearly right, within `first` mm; then the pose by them, without those that do not fit. pairs: of the
 * constellation, -1 for none. noise: of the sight model. Undefined when fewer than four fit.
 */
export function followMarkers(
  c: Constellation,
  noise: number,
  guess: Mat4,
  seen: Sighted,
  first: number,
): { pose: Mat4; pairs: Int32Array; fits: number } | undefined {
  const n = seen.diameters.length
  const pairs = new Int32Array(n).fill(-1)
  let at = guess
  let count = 0
  for (let round = 0; round < 4; round++) {
    const back = invertRigid(at)
    const gate = round === 0 ? first : round === 1 ? Math.min(first, 4) : SAME_PLACE
    count = 0
    const fit = round > 1 ? framePose(c.positions, seen.xyz, seen.info, pairs, at, 1) : undefined
    for (let i = 0; i < n; i++) {
      pairs[i] = -1
      const [x, y, z] = transformPoint(back, seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2])
      const m = nearestKnown(c, x, y, z, Math.min(gate, c.grid.cell))
      if (m < 0 || differ(seen.diameters[i], c.diameters[m])) continue
      if (round > 1 && misfit(c, noise, seen, at, fit?.covariance, i, m) > (round === 2 ? 2 * GATE : GATE)) continue
      pairs[i] = m
      count++
    }
    if (count < 4) return undefined
    const better = framePose(c.positions, seen.xyz, seen.info, pairs, at, 3)
    if (!better) return undefined
    at = better.pose
  }
  return { pose: at, pairs, fits: count }
}

/** How far a sighting lies from its marker in standard deviations of both, and of the pose. */
function misfit(c: Constellation, noise: number, seen: Sighted, at: Mat4, poseCovariance: Float64Array | undefined, i: number, m: number): number {
  const p = c.positions
  const [px, py, pz] = [
    at[0] * p[3 * m] + at[1] * p[3 * m + 1] + at[2] * p[3 * m + 2],
    at[4] * p[3 * m] + at[5] * p[3 * m + 1] + at[6] * p[3 * m + 2],
    at[8] * p[3 * m] + at[9] * p[3 * m + 1] + at[10] * p[3 * m + 2],
  ]
  const s2 = c.sigma[m] ** 2
  for (let k = 0; k < 6; k++) sum[k] = noise * noise * seen.cov[6 * i + k]
  sum[0] += s2
  sum[3] += s2
  sum[5] += s2
  if (poseCovariance) {
    const j = [0, pz, -py, 1, 0, 0, -pz, 0, px, 0, 1, 0, py, -px, 0, 0, 0, 1]
    let o6 = 0
    for (let a = 0; a < 3; a++)
      for (let b = a; b < 3; b++, o6++) {
        let t = 0
        for (let r = 0; r < 6; r++) for (let q = 0; q < 6; q++) t += j[6 * a + r] * poseCovariance[6 * r + q] * j[6 * b + q]
        sum[o6] += noise * noise * t
      }
  }
  if (!invertSymmetric3(sum, inverse)) return Infinity
  return Math.sqrt(Math.max(0, quadratic3(inverse, seen.xyz[3 * i] - px - at[3], seen.xyz[3 * i + 1] - py - at[7], seen.xyz[3 * i + 2] - pz - at[11])))
}

const one = new Float64Array(6)
const sum = new Float64Array(6)
const inverse = new Float64Array(6)
