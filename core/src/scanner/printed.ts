/** share of the light that ink leaves, and how sharp its rims are in the noise that decides */
const INK = 0.25
/** what colour it is of: red, green and blue of the light that it leaves, together as bright as grey (ITU-R BT.601) */
const TINT = [0.46, 1.05, 2.16]
const FROM = 0.42
const TO = 0.58

/**
 * What is printed on a stand-in's part, as a wrap or a camouflage paint: irregular blots of about that size, mm, which go through the whole body. Gives the share of
 * light that is left, INK to 1, at a place in the part's coordinates. Lattice noise (Perlin 1985) of two sizes, cut off: invented for stand-ins, no pattern that
 * exists.
 */
export function printTone(x: number, y: number, z: number, size: number): number {
  const v = 0.7 * lattice(x / size, y / size, z / size) + 0.3 * lattice((2.3 * x) / size + 17, (2.3 * y) / size + 5, (2.3 * z) / size + 11)
  const t = Math.min(1, Math.max(0, (v - FROM) / (TO - FROM)))
  return INK + (1 - INK) * t * t * (3 - 2 * t)
}

/** Red, green and blue of what is seen at such a tone, in parts of its brightness: grey where nothing is printed, dark blue where ink lies. */
export function tintOf(tone: number, out: Float64Array): void {
  const ink = (1 - tone) / (1 - INK)
  for (let k = 0; k < 3; k++) out[k] = 1 + ink * (TINT[k] - 1)
}

/** Values at whole places, 0..1, smoothly between them. */
function lattice(x: number, y: number, z: number): number {
  const [i, j, k] = [Math.floor(x), Math.floor(y), Math.floor(z)]
  const [u, v, w] = [ease(x - i), ease(y - j), ease(z - k)]
  const row = (b: number, c: number) => value(i, b, c) * (1 - u) + value(i + 1, b, c) * u
  const sheet = (c: number) => row(j, c) * (1 - v) + row(j + 1, c) * v
  return sheet(k) * (1 - w) + sheet(k + 1) * w
}
const ease = (t: number) => t * t * (3 - 2 * t)

function value(a: number, b: number, c: number): number {
  let h = Math.imul(a, 0x27d4eb2f) ^ Math.imul(b, 0x165667b1) ^ Math.imul(c, 0x9e3779b1)
  h = Math.imul(h ^ (h >>> 15), 0x85ebca6b)
  h = Math.imul(h ^ (h >>> 13), 0xc2b2ae35)
  return ((h ^ (h >>> 16)) >>> 0) / 2 ** 32
}
