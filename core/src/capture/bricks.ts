/** cubes along a side of a brick, and in one: neighbours lie in few bricks, so that few have to be looked up */
export const SIDE = 4
const IN_BRICK = SIDE ** 3
/** bricks around one and itself, in two layers; and of how many bricks they are remembered */
const MOST_BESIDE = 54
const REMEMBERED = 1 << 10

/** Bits of a brick's lower and upper half that lie from .. to along an axis (0 to 3): at 4 from + to. */
const along = (axis: number, half: number) =>
  Int32Array.from({ length: 16 }, (_, window) => {
    let bits = 0
    for (let i = 0; i < 32; i++) {
      const place = ((i + 32 * half) >> (2 * axis)) & 3
      if (place >= window >> 2 && place <= (window & 3)) bits |= 1 << i
    }
    return bits
  })
const ALONG_A = along(0, 0)
const ALONG_B = along(1, 0)
const ALONG_C = [along(2, 0), along(2, 1)]

/**
 * Numbers of cubes by their place (whole numbers a b c) and layer (0, 1), in bricks of 64 that are found by hashing. Those around a place are walked brick by
 * brick, over what is filled only; which bricks lie beside one is remembered, since points of a frame lie side by side and are asked for again. Memory: 300 bytes
 * a brick, and 280 kB. Tried: hashing each cube by itself (planes cost three times as much); looking the bricks up each time (the walk took twice as long).
 */
export function brickedCubes() {
  let bricks = 0
  let room = 1 << 10
  let table = new Int32Array(2 * room).fill(-1)
  /** a, b, c, layer of a brick */
  let keys = new Int32Array(4 * room)
  /** its cubes, -1 for none; and a bit for each that is there */
  let slots = new Int32Array(IN_BRICK * room).fill(-1)
  let filled = new Int32Array(2 * room)
  /** bricks whose neighbours are remembered: their places and what was made of bricks by then; how many are beside each, which, and where */
  const asked = new Int32Array(4 * REMEMBERED).fill(-1)
  const many = new Uint8Array(REMEMBERED)
  const beside = new Int32Array(MOST_BESIDE * REMEMBERED)
  const where = new Uint8Array(MOST_BESIDE * REMEMBERED)

  const hash = (a: number, b: number, c: number, layer: number) => {
    let h = Math.imul(a, 0x9e3779b1) ^ Math.imul(b, 0x85ebca77) ^ Math.imul(c, 0xc2b2ae3d) ^ Math.imul(layer, 0x27d4eb2f)
    h = Math.imul(h ^ (h >>> 15), 0x2c1b3c6d)
    return (h ^ (h >>> 13)) & (table.length - 1)
  }
  /** Number of a brick by its own place, -1 for none. */
  const brickAt = (a: number, b: number, c: number, layer: number): number => {
    for (let h = hash(a, b, c, layer); ; h = (h + 1) & (table.length - 1)) {
      const k = table[h]
      if (k < 0) return -1
      if (keys[4 * k] === a && keys[4 * k + 1] === b && keys[4 * k + 2] === c && keys[4 * k + 3] === layer) return k
    }
  }
  const enter = (k: number) => {
    let h = hash(keys[4 * k], keys[4 * k + 1], keys[4 * k + 2], keys[4 * k + 3])
    while (table[h] >= 0) h = (h + 1) & (table.length - 1)
    table[h] = k
  }
  const newBrick = (a: number, b: number, c: number, layer: number): number => {
    if (bricks === room) {
      room *= 2
      keys = longer(keys, 4 * room)
      filled = longer(filled, 2 * room)
      const more = new Int32Array(IN_BRICK * room).fill(-1, IN_BRICK * bricks)
      more.set(slots)
      slots = more
      table = new Int32Array(2 * room).fill(-1)
      for (let k = 0; k < bricks; k++) enter(k)
    }
    keys[4 * bricks] = a
    keys[4 * bricks + 1] = b
    keys[4 * bricks + 2] = c
    keys[4 * bricks + 3] = layer
    enter(bricks)
    return bricks++
  }
  const inBrick = (a: number, b: number, c: number) => (a & 3) | ((b & 3) << 2) | ((c & 3) << 4)
  /** Where the bricks around one (and itself) are remembered, by layer; those that are there. */
  const around = (a: number, b: number, c: number): number => {
    const m = hash(a, b, c, 0) & (REMEMBERED - 1)
    if (asked[4 * m] === a && asked[4 * m + 1] === b && asked[4 * m + 2] === c && asked[4 * m + 3] === bricks) return m
    asked[4 * m] = a
    asked[4 * m + 1] = b
    asked[4 * m + 2] = c
    asked[4 * m + 3] = bricks
    let n = 0
    for (let at = 0; at < 27; at++)
      for (let layer = 0; layer < 2; layer++) {
        const k = brickAt(a + Math.floor(at / 9) - 1, b + (Math.floor(at / 3) % 3) - 1, c + (at % 3) - 1, layer)
        if (k < 0) break
        beside[MOST_BESIDE * m + n] = k
        where[MOST_BESIDE * m + n++] = at
      }
    many[m] = n
    return m
  }

  return {
    brickAt,
    /** A cube of a brick, by the place of the cube; -1 for none. */
    inside: (brick: number, a: number, b: number, c: number): number => slots[IN_BRICK * brick + inBrick(a, b, c)],
    /** A cube; -1 for none. */
    find(a: number, b: number, c: number, layer: number): number {
      const k = brickAt(a >> 2, b >> 2, c >> 2, layer)
      return k < 0 ? -1 : slots[IN_BRICK * k + inBrick(a, b, c)]
    },
    /** Puts a cube where none is; gives its slot. */
    put(cube: number, a: number, b: number, c: number, layer: number): number {
      let k = brickAt(a >> 2, b >> 2, c >> 2, layer)
      if (k < 0) k = newBrick(a >> 2, b >> 2, c >> 2, layer)
      const at = inBrick(a, b, c)
      filled[2 * k + (at >> 5)] |= 1 << (at & 31)
      slots[IN_BRICK * k + at] = cube
      return IN_BRICK * k + at
    },
    /** Place of a cube along axis a (0), b (1) or c (2), by its slot. */
    place: (slot: number, axis: number): number => SIDE * keys[4 * Math.floor(slot / IN_BRICK) + axis] + ((slot >> (2 * axis)) & 3),
    /** Those around a place, up to `reach` (3 at the most) to each side along each axis: `what` is told each one, and where it lies from there. */
    around(a: number, b: number, c: number, reach: number, what: (cube: number, i: number, j: number, l: number) => void): void {
      const m = around(a >> 2, b >> 2, c >> 2)
      for (let n = MOST_BESIDE * m; n < MOST_BESIDE * m + many[m]; n++) {
        // where that brick begins, from the place
        const i = SIDE * (Math.floor(where[n] / 9) - 1) - (a & 3)
        const j = SIDE * ((Math.floor(where[n] / 3) % 3) - 1) - (b & 3)
        const l = SIDE * ((where[n] % 3) - 1) - (c & 3)
        if (i > reach || j > reach || l > reach || i + 3 < -reach || j + 3 < -reach || l + 3 < -reach) continue
        const inA = ALONG_A[4 * Math.max(0, -reach - i) + Math.min(3, reach - i)]
        const inB = ALONG_B[4 * Math.max(0, -reach - j) + Math.min(3, reach - j)]
        const inC = 4 * Math.max(0, -reach - l) + Math.min(3, reach - l)
        for (let half = 0; half < 2; half++)
          for (let bits = filled[2 * beside[n] + half] & inA & inB & ALONG_C[half][inC]; bits !== 0; bits &= bits - 1) {
            const at = 32 * half + 31 - Math.clz32(bits & -bits)
            what(slots[IN_BRICK * beside[n] + at], i + (at & 3), j + ((at >> 2) & 3), l + (at >> 4))
          }
      }
    },
  }
}

/** The same numbers with room for n. */
export function longer<T extends Int32Array | Float32Array | Uint16Array>(of: T, n: number): T {
  const l = new (of.constructor as new (n: number) => T)(n)
  l.set(of)
  return l
}
