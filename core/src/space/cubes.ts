/**
 * Which cube of a lattice each point lies in, cubes numbered by their first point. A hash with open addressing over the three whole
 * numbers of a cube: memory and time depend on the number of points alone, however far apart they lie.
 * Tried: one number made of all three as the key of a Map. It lost z from 2^53 on, and a Map ends at 16.7 million keys.
 */
export interface Cubes {
  /** N: number of the cube of each point */
  of: Int32Array
  count: number
}

/** xyz: 3N mm; size: side of a cube, mm, positive (RangeError). Points that are no numbers share one cube. */
export function cubesOf(xyz: ArrayLike<number>, size: number): Cubes {
  if (!(size > 0)) throw new RangeError(`cube of ${size} mm`)
  const n = xyz.length / 3
  let bits = 4
  while (2 ** bits < 2 * n) bits++
  const mask = 2 ** bits - 1
  // first point of the cube that holds a place of the table, -1 while it is free
  const table = new Int32Array(2 ** bits).fill(-1)
  const of = new Int32Array(n)
  const inverse = 1 / size
  let count = 0
  for (let i = 0; i < n; i++) {
    const a = Math.floor(xyz[3 * i] * inverse)
    const b = Math.floor(xyz[3 * i + 1] * inverse)
    const c = Math.floor(xyz[3 * i + 2] * inverse)
    let h = (Math.imul(a | 0, 0x9e3779b1) ^ Math.imul(b | 0, 0x85ebca77) ^ Math.imul(c | 0, 0xc2b2ae3d)) >>> 0
    h = (h ^ (h >>> 15)) & mask
    for (;;) {
      const first = table[h]
      if (first < 0) {
        table[h] = i
        of[i] = count++
        break
      }
      const o = 3 * first
      if (Math.floor(xyz[o] * inverse) === a && Math.floor(xyz[o + 1] * inverse) === b && Math.floor(xyz[o + 2] * inverse) === c) {
        of[i] = of[first]
        break
      }
      // no number is equal to none
      if (a !== a || b !== b || c !== c) {
        if (!(xyz[o] === xyz[o] && xyz[o + 1] === xyz[o + 1] && xyz[o + 2] === xyz[o + 2])) {
          of[i] = of[first]
          break
        }
      }
      h = (h + 1) & mask
    }
  }
  return { of, count }
}
