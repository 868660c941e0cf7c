/** Seeded random numbers (sfc32, Chris Doty-Humphrey 2010, passes PractRand): the same seed gives the same run everywhere. */
export interface Random {
  /** uniform in [0, 1) */
  next(): number
  /** standard normal, Marsaglia polar method (1964) */
  gauss(): number
  /** integer in [0, n) */
  below(n: number): number
}

export function seeded(seed: number): Random {
  let a = 0x9e3779b9 ^ seed
  let b = 0x243f6a88 ^ Math.imul(seed, 0x85ebca6b)
  let c = 0xb7e15162
  let d = 1
  const int = () => {
    const t = (((a + b) | 0) + d) | 0
    d = (d + 1) | 0
    a = b ^ (b >>> 9)
    b = (c + (c << 3)) | 0
    c = (c << 21) | (c >>> 11)
    c = (c + t) | 0
    return t >>> 0
  }
  for (let i = 0; i < 15; i++) int()
  const next = () => int() / 4294967296
  let spare = Number.NaN
  return {
    next,
    below: (n) => Math.floor(next() * n),
    gauss() {
      if (!Number.isNaN(spare)) {
        const s = spare
        spare = Number.NaN
        return s
      }
      for (;;) {
        const u = 2 * next() - 1
        const v = 2 * next() - 1
        const s = u * u + v * v
        if (s >= 1 || s === 0) continue
        const m = Math.sqrt((-2 * Math.log(s)) / s)
        spare = v * m
        return u * m
      }
    },
  }
}

/** Uniformly distributed rotation as quaternion [w, x, y, z] (Shoemake 1992). */
export function randomQuaternion(random: Random): [number, number, number, number] {
  const u = random.next()
  const v = random.next() * 2 * Math.PI
  const w = random.next() * 2 * Math.PI
  const s = Math.sqrt(1 - u)
  const t = Math.sqrt(u)
  return [t * Math.cos(w), s * Math.sin(v), s * Math.cos(v), t * Math.sin(w)]
}

/**
 * The lot that a whole number draws, uniform in [0, 1), always the same (finaliser of MurmurHash3, Appleby 2011). Whoever takes the members whose lot is below a share gets nearly the
 * same ones when a few come, go or change: a choice of every k-th does not.
 */
export function lot(id: number, salt = 0): number {
  let h = (id ^ Math.imul(salt + 1, 0x9e3779b9)) | 0
  h = Math.imul(h ^ (h >>> 16), 0x85ebca6b)
  h = Math.imul(h ^ (h >>> 13), 0xc2b2ae35)
  return ((h ^ (h >>> 16)) >>> 0) / 4294967296
}
