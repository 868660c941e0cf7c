import { PATCH } from './patch.ts'

/** places that are remembered; and how alike (cosine) the directions must be that one looks from */
const ROOM = 1 << 15
const ALIKE = 0.9

/**
 * The planes found at places (whole numbers a b c) where nothing was seen, until the surface changes: a frame asks for the same ones in each of its rounds, and
 * one whose place is sought from many starts asks again and again. What was found from one direction counts for those within 26 degrees of it. Of two places that
 * fall together the latest stays. Memory: 2 MB. Measured: recordings that are torn away and led back take two thirds of the time.
 */
export function emptyPlaces() {
  /** a, b, c, and after how many changes it was found */
  const keys = new Int32Array(4 * ROOM).fill(-1)
  const from = new Float32Array(3 * ROOM)
  const planes = new Float32Array(PATCH * ROOM)
  let changes = 0
  return {
    /** PATCH numbers of a place, from PATCH times its number on. */
    planes,
    changed(): void {
      changes = (changes + 1) | 0
    },
    /** Number of a place where it is known as seen from direction v; else -1 - number, and it is taken for known from now on. */
    at(a: number, b: number, c: number, vx: number, vy: number, vz: number): number {
      let h = Math.imul(a, 0x9e3779b1) ^ Math.imul(b, 0x85ebca77) ^ Math.imul(c, 0xc2b2ae3d)
      h = Math.imul(h ^ (h >>> 15), 0x2c1b3c6d)
      const m = (h ^ (h >>> 13)) & (ROOM - 1)
      const k = 4 * m
      if (keys[k] === a && keys[k + 1] === b && keys[k + 2] === c && keys[k + 3] === changes)
        if (from[3 * m] * vx + from[3 * m + 1] * vy + from[3 * m + 2] * vz > ALIKE) return m
      keys[k] = a
      keys[k + 1] = b
      keys[k + 2] = c
      keys[k + 3] = changes
      from[3 * m] = vx
      from[3 * m + 1] = vy
      from[3 * m + 2] = vz
      return -1 - m
    },
  }
}
