import { smallestEigen3 } from '../base/eigen.ts'

/** numbers of a cube: count, sums of x y z, of xx xy xz yy yz zz about its middle, and of the directions to the scanner */
export const PER = 13
export const VX = 10

/**
 * Numbers of a patch: a place on it, its normal (unit, towards the scanner), points it was made from, their variance across it (mm2), and the inverse of that
 * along it where it is narrower (1 / mm2): both together give the variance of its tilt.
 */
export const PATCH = 9

const eigen = new Float64Array(6)

/** The plane of moments (PER numbers): PATCH numbers. */
export function planeOf(moments: Float64Array, out: Float64Array): void {
  const n = moments[0]
  const mx = moments[1] / n
  const my = moments[2] / n
  const mz = moments[3] / n
  smallestEigen3(
    moments[4] / n - mx * mx,
    moments[5] / n - mx * my,
    moments[6] / n - mx * mz,
    moments[7] / n - my * my,
    moments[8] / n - my * mz,
    moments[9] / n - mz * mz,
    eigen,
  )
  const flip = eigen[0] * moments[VX] + eigen[1] * moments[VX + 1] + eigen[2] * moments[VX + 2] < 0 ? -1 : 1
  out[0] = mx
  out[1] = my
  out[2] = mz
  out[3] = flip * eigen[0]
  out[4] = flip * eigen[1]
  out[5] = flip * eigen[2]
  out[6] = n
  out[7] = Math.max(0, eigen[3])
  // along the narrower direction, where it is known least
  out[8] = 1 / Math.max(1e-9, eigen[4])
}
