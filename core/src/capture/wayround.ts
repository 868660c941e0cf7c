import type { Mat4 } from '../base/mat4.ts'
import { lookingAt } from '../scanner/seemarkers.ts'

/**
 * Where the body of a scanner is on its way round what it measures: along it from 0 to 1, from above and from the sides, the aim wandering over all of it, at
 * about the ideal distance. Of what is tall it is led up and down: what is looked at from above lies near the top, the foot is looked at from the side, as the
 * top would come too near the scanner otherwise. box: min x y z, max x y z, mm; ideal: mm. Body to world, z up.
 */
export function wayRound(box: ArrayLike<number>, ideal: number, t: number): Mat4 {
  const middle = [(box[0] + box[3]) / 2, (box[1] + box[4]) / 2, (box[2] + box[5]) / 2]
  const up = Math.max(0, box[5] - box[2] - 120)
  // beside what is tall it stays farther out
  const reach = [3, 4].map((k) => Math.max(0, (box[k] - box[k - 3]) / 2 - 60) * (up ? 0.4 : 1))
  const a = 2 * Math.PI * t
  const low = up ? ((1 - Math.cos(5 * a)) / 2) ** 3 * (0.5 + 0.5 * Math.sin(13 * a)) : 0
  const aim = [middle[0] + reach[0] * Math.sin(3 * a), middle[1] + reach[1] * Math.sin(2 * a + 0.7), up ? box[5] - 60 - up * low : middle[2]]
  const elevation = ((up ? 45 + 37 * Math.cos(5 * a) : 62 + 22 * Math.cos(5 * a)) * Math.PI) / 180
  const azimuth = 2 * a
  const d = ideal * (1 + 0.07 * Math.sin(7 * a))
  const eye = [aim[0] + d * Math.cos(elevation) * Math.cos(azimuth), aim[1] + d * Math.cos(elevation) * Math.sin(azimuth), aim[2] + d * Math.sin(elevation)]
  return lookingAt(eye, aim, 25 * Math.sin(a))
}
