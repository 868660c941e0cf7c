import type { Mat4 } from '../base/mat4.ts'
import { lookingAt } from '../scanner/seemarkers.ts'

/** what is higher is tall, mm; and how far up or down one goes while going round it once */
const TALL = 120
const PITCH = 180

/** How much longer the way round is than that round what is not tall. */
export const timesRound = (box: ArrayLike<number>): number => Math.max(1, Math.ceil((box[5] - box[2] - TALL) / PITCH))

/**
 * Where the body of a scanner is on its way round what it measures: along it from 0 to 1, from above and from the sides, the aim wandering over all of it, at
 * about the ideal distance. Of what is tall it is led from the foot to the top and down again, going round: the top is looked at from above and the side, the foot
 * from half above and from farther away, as the top would come too near the scanner otherwise. box: min x y z, max x y z, mm; ideal: mm. Body to world, z up.
 * Tried for tall things: steeper and nearer at the foot (169 mm from the post, where 250 is the least); five times down to the foot, seen from its side only (20
 * of 43 planned markers of a post of 366 mm were mapped); from the top down, where few markers are seen until it comes to the table, and from lower (lost on
 * the way).
 */
export function wayRound(box: ArrayLike<number>, ideal: number, t: number): Mat4 {
  const middle = [(box[0] + box[3]) / 2, (box[1] + box[4]) / 2, (box[2] + box[5]) / 2]
  const up = Math.max(0, box[5] - box[2] - TALL)
  // beside what is tall it stays farther out
  const reach = [3, 4].map((k) => Math.max(0, (box[k] - box[k - 3]) / 2 - 60) * (up ? 0.4 : 1))
  const a = 2 * Math.PI * t
  const low = (1 + Math.cos(a)) / 2
  const aim = [middle[0] + reach[0] * Math.sin(3 * a), middle[1] + reach[1] * Math.sin(2 * a + 0.7), up ? box[5] - TALL / 2 - up * low : middle[2]]
  const rounds = 2 * timesRound(box)
  const elevation = ((up ? 62 - 26 * low + (10 - 6 * low) * Math.cos((2.5 * rounds + 1) * a) : 62 + 22 * Math.cos(5 * a)) * Math.PI) / 180
  const azimuth = rounds * a
  const d = ideal * (up ? 1 + 0.15 * low + 0.04 * Math.sin(7 * a) : 1 + 0.07 * Math.sin(7 * a))
  const eye = [aim[0] + d * Math.cos(elevation) * Math.cos(azimuth), aim[1] + d * Math.cos(elevation) * Math.sin(azimuth), aim[2] + d * Math.sin(elevation)]
  return lookingAt(eye, aim, 25 * Math.sin(a))
}
