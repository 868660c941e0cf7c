/**
 * Markers as they lie in one arrangement: a plan, or a map that was measured. Flat arrays, mm, all in the coordinates of the item.
 * Immutable by convention.
 */
export interface Markers {
  readonly kind: 'markers'
  /** what stands beside them on screen and on paper; each once */
  readonly ids: readonly string[]
  /** 3N */
  readonly positions: Float32Array
  /** N, outer diameter of the white disc */
  readonly diameters: Float32Array
  /** 3N, unit, away from what they stick on; zero where it is not known */
  readonly normals: Float32Array
  /** 6N: xx xy xz yy yz zz, mm^2; zero where it is not known (a plan, a list without uncertainties) */
  readonly covariance: Float32Array
  /** N: frames that showed it */
  readonly frames: Uint32Array
  /** N: what each sticks on, one of PERCHES by number */
  readonly perch: Uint8Array
  /** relative standard uncertainty of all lengths, from the calibration of the scanner; 0 where it is not known */
  readonly scale: number
}

/** What a marker sticks on. */
export const PERCHES = ['part', 'table', 'block-30', 'block-45', 'tower'] as const
export type Perch = (typeof PERCHES)[number]

export const markerCount = (m: { diameters: ArrayLike<number> }) => m.diameters.length

/** Fills in what is not known. positions: 3N mm. */
export function makeMarkers(parts: {
  ids?: readonly string[]
  positions: ArrayLike<number>
  diameters: ArrayLike<number>
  normals?: ArrayLike<number> | undefined
  covariance?: ArrayLike<number> | undefined
  frames?: ArrayLike<number> | undefined
  perch?: ArrayLike<number> | undefined
  scale?: number | undefined
}): Markers {
  const n = parts.diameters.length
  return {
    kind: 'markers',
    ids: parts.ids ?? Array.from({ length: n }, (_, i) => String(i + 1)),
    positions: Float32Array.from(parts.positions),
    diameters: Float32Array.from(parts.diameters),
    normals: parts.normals ? Float32Array.from(parts.normals) : new Float32Array(3 * n),
    covariance: parts.covariance ? Float32Array.from(parts.covariance) : new Float32Array(6 * n),
    frames: parts.frames ? Uint32Array.from(parts.frames) : new Uint32Array(n),
    perch: parts.perch ? Uint8Array.from(parts.perch) : new Uint8Array(n),
    scale: parts.scale ?? 0,
  }
}

/** Standard uncertainty of a marker in its worst direction, mm; NaN where it is not known. */
export function worstUncertainty(c: ArrayLike<number>, i: number): number {
  const o = 6 * i
  const trace = c[o] + c[o + 3] + c[o + 5]
  if (!(trace > 0)) return NaN
  // largest eigenvalue in closed form (Smith 1961)
  const q = trace / 3
  const [a, b, d] = [c[o] - q, c[o + 3] - q, c[o + 5] - q]
  const off = c[o + 1] ** 2 + c[o + 2] ** 2 + c[o + 4] ** 2
  const p2 = a * a + b * b + d * d + 2 * off
  if (p2 < 1e-30) return Math.sqrt(q)
  const p = Math.sqrt(p2 / 6)
  const det = a * (b * d - c[o + 4] ** 2) - c[o + 1] * (c[o + 1] * d - c[o + 4] * c[o + 2]) + c[o + 2] * (c[o + 1] * c[o + 4] - b * c[o + 2])
  const phi = Math.acos(Math.min(1, Math.max(-1, det / (2 * p * p * p)))) / 3
  return Math.sqrt(q + 2 * p * Math.cos(phi))
}
