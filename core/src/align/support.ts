import type { LocalStrip } from '../shape/localstrip.ts'
import type { LocalSurface, SurfaceGrid } from '../shape/localsurface.ts'
import type { Side } from './side.ts'

/** Samples of a pass, and what was found at each. */
export interface SurfelArgs {
  grid: SurfaceGrid
  side: Side
  /** samples: places in the grid's order */
  at: Int32Array
  radius: number
  xyz: Float32Array
  normals: Float32Array
  sigmas: Float32Array
  variance: Float32Array
  good: Uint8Array
  trust: Float32Array
  scale: Uint8Array
  /** residual above which a surface is unsound; Infinity while the noise is still being measured */
  limit: number
  /** noise of the pass, mm */
  noise: number
}

/** Radii tried, largest first, as shares of the given one: what bends or ends too soon for the largest may do for a smaller one. */
export const SCALES = [1, 0.75, 0.55]
/** A surface is sound while its residual is under this many times the noise of the pass. 1.4: bracket at 0.77 mm 0.025 mm off where this gives 0.009. */
export const SOUND = 1.25
/** At the border of a pass the points lie to one side: the surface is then a guess beyond what was seen. 0.2: bracket at 1.5 mm 0.20 mm off, 0.1: 0.08. */
export const OFF_CENTRE = 0.1
/** Below this many points six unknowns leave no judgement of the residual. */
export const FEWEST = 14
/** Stands for a narrow face, where others stand for one of SCALES. */
export const STRIP = SCALES.length
/** Radius by number, as a share of the given one. */
export const RADII = [...SCALES, 0.75]

/**
 * How far a fitted surface may be trusted, 0 to 1; limit: largest residual, mm. Not yes or no: a surface at the border of what is trusted would come and go with the
 * rounding of its points, and take a hundredth of the stated error with it.
 */
export function soundness(q: LocalSurface, limit: number): number {
  if (q.count < FEWEST || q.sigma > limit || q.breadth < 0.25 || q.offside > OFF_CENTRE) return 0
  return (
    Math.min(1, (1 - q.sigma / limit) / FADE) *
    Math.min(1, (1 - q.offside / OFF_CENTRE) / FADE) *
    Math.min(1, (q.breadth - 0.25) / FADE) *
    Math.min(1, (q.count - FEWEST + 1) / 4)
  )
}
/** Trust grows to the full within this share of a limit. */
const FADE = 0.1

/** The same of a narrow face; radius: of the largest neighbourhood, mm. */
export function stripSoundness(s: LocalStrip, limit: number, radius: number): number {
  const width = NARROWEST * radius
  if (s.count < FEWEST || s.sigma > limit || s.width < width || s.bend > BENT || s.leverage > LOOSE) return 0
  return (
    Math.min(1, (1 - s.sigma / limit) / FADE) *
    Math.min(1, (s.width / width - 1) / (3 * FADE)) *
    Math.min(1, (1 - s.bend / BENT) / (3 * FADE)) *
    Math.min(1, (1 - s.leverage / LOOSE) / (3 * FADE)) *
    Math.min(1, (s.count - FEWEST + 1) / 4)
  )
}
/** standard deviation of the points along the shorter direction, as a share of the radius: a face of two point spacings */
const NARROWEST = 0.136
/** F of a quadric against the plane */
const BENT = 8
/** variance of the height for points of unit variance */
const LOOSE = 0.4
