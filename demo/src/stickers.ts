import { rotateVector, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { makeMarkers, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { castRay, type Bvh } from '@oak-gauge/core/space/bvh.ts'
import { orbit } from './passes.ts'

/** A round marker of 3 mm on a part: its middle, and the way it faces (unit). */
export interface Sticker {
  at: [number, number, number]
  facing: [number, number, number]
}

/** On the edge of the gear cover's rim (radius 70, 4 high), at uneven angles: seen from above and from below. */
export const COVER_MARKERS: Sticker[] = [3, 37, 62, 109, 151, 178, 223, 271, 299, 338].map((degrees) => {
  const [c, s] = [Math.cos((degrees * Math.PI) / 180), Math.sin((degrees * Math.PI) / 180)]
  return { at: [70 * c, 70 * s, 2], facing: [c, s, 0] }
})

/** Standard deviation of a marker's place along each axis, mm. */
const NOISE = 0.008
/** What is seen more aslant is not read: cosine. */
const STEEP = 0.34
/** They are recorded by themselves, from all round: so many looks, degrees up, mm away. */
const ROUND = { looks: 8, elevation: 30, distance: 420 }

/**
 * Markers as a setup measured them, looking at `target` from all round: in its own coordinates, numbered anew, with noise. Undefined when none was seen.
 */
export function seenMarkers(stickers: readonly Sticker[], place: Mat4, scene: Bvh, target: [number, number, number], seed: number): Markers | undefined {
  const random = seeded(seed)
  const eyes = Array.from({ length: ROUND.looks }, (_, i) => orbit((360 * i) / ROUND.looks, ROUND.elevation, ROUND.distance, target))
  const positions: number[] = []
  const normals: number[] = []
  for (const s of stickers) {
    const p = transformPoint(place, ...s.at)
    const n = rotateVector(place, ...s.facing)
    const seen = eyes.some((eye) => {
      const d = eye.map((v, k) => v - p[k])
      const l = Math.hypot(...d)
      const u = d.map((v) => v / l)
      if (u[0] * n[0] + u[1] * n[1] + u[2] * n[2] < STEEP) return false
      const hit = { t: Infinity, triangle: -1 }
      castRay(scene, p[0] + 0.05 * n[0], p[1] + 0.05 * n[1], p[2] + 0.05 * n[2], u[0], u[1], u[2], hit)
      return hit.triangle < 0
    })
    // one draw a marker, seen or not: what is seen changes no other's noise
    const noise = [0, 1, 2].map(() => NOISE * random.gauss())
    if (!seen) continue
    positions.push(...p.map((v, k) => v + noise[k]))
    normals.push(...n)
  }
  const count = positions.length / 3
  if (!count) return undefined
  const variance = NOISE ** 2
  const covariance = Array.from({ length: count }, () => [variance, 0, 0, variance, 0, variance]).flat()
  return makeMarkers({ positions, normals, covariance, diameters: new Array<number>(count).fill(3) })
}
