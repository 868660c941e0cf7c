import { jacobiEigen } from '../base/eigen.ts'

/** One of six independent small motions, and how firmly the surface holds it. */
export interface Freedom {
  /** rotation part (rad per unit, about the centre) and translation part of the unit motion, in mm at the part's radius */
  rotation: [number, number, number]
  translation: [number, number, number]
  /** share of surface pairs, 0..1, that resist this motion: the mean squared normal component */
  hold: number
  free: boolean
}

/** Below this mean squared normal component a motion is held by noise alone, where the noise is not known. Measured: plane with 0.3 deg normal noise 3e-5, bracket's weakest 2e-2. */
const FREE_BELOW = 4e-4
/** A motion counts as held when it is held so many times better than by the noise of the normals. */
const ABOVE_NOISE = 20

/**
 * Which motions a set of surface pairs does not hold (Gelfand 2003): eigenvectors of the 6x6 matrix of
 * [(p - c) x n / radius, n], normalised by the pairs' weight. A plane leaves two slides and a turn free, a cylinder a
 * slide and a turn, a sphere three turns.
 * jtj: 6x6 row major, rotation first, already with lengths divided by `radius`; weight: the sum of weights.
 * noiseHold: hold that noisy normals alone make, a quarter of the mean of 1 - cosine between the normals of both sides.
 * Tried: 5 times the noise; a pass that shared two narrow strips only then counted as held, 0.3 mm off at a predicted 0.07.
 */
export function freedoms(jtj: ArrayLike<number>, weight: number, radius: number, noiseHold?: number): Freedom[] {
  const limit = noiseHold === undefined ? FREE_BELOW : Math.max(2e-5, ABOVE_NOISE * noiseHold)
  const scaled = Float64Array.from(jtj, (v) => v / Math.max(weight, 1e-300))
  const { values, vectors } = jacobiEigen(scaled, 6)
  const out: Freedom[] = []
  for (let k = 0; k < 6; k++) {
    const v = [0, 1, 2, 3, 4, 5].map((r) => vectors[6 * r + k])
    const hold = Math.max(0, values[k])
    const rotation: [number, number, number] = [v[0] / radius, v[1] / radius, v[2] / radius]
    const translation: [number, number, number] = [v[3], v[4], v[5]]
    out.push({
      rotation,
      translation,
      hold,
      free: hold < limit,
    })
  }
  return out
}
