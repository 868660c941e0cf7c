import { invertRigid, transformPoint, type Mat4 } from '../base/mat4.ts'
import { MATERIALS } from '../scanner/scene.ts'

/** What a frame says of the light in it. */
export interface Lit {
  /** level of each measured point, 0..255 */
  intensity: Uint8Array
  /** share of the lit surface that was too dark to be measured, and that was too bright, 0..1. Default: none */
  dark?: number
  bright?: number
}

/** level that the middle of what is lit shall have, a surface at a slant of 30 degrees; what white has straight on at exposure 1; and what only BRIGHTEST may pass; 0..255 */
const MIDDLE = 120
const WHITE = 200
const SLANT = Math.cos(Math.PI / 6)
/** what mirrors blooms: exposed by so much less, from so much gloss on */
const GLOSSY = 0.35
const MIRRORS = 0.2
const NEARLY = 235
const BRIGHTEST = 0.02
/** what is too bright is measured wrongly, what is too dark is only missing: a point of it counts as so many */
const WORSE = 2
/** longest and shortest, 1: matt white at the ideal distance; a longer one smears while a hand moves */
const RANGE = [0.1, 8]
/** it changes by so much at once at the most, and for less than SETTLED not at all: a view shows more of the light than the next */
const FASTEST = 1.6
const SETTLED = 1.25
/** what mirrors does so in few views: where something was too bright it stays below that, and comes back by so much at each look */
const FORGETS = 1.01
/** fewer points say nothing */
const FEWEST = 50

/**
 * Sets the exposure while a scanner is moved, from one look to the next, a few a second; levels are proportional to it until they end at 255. The middle of what is
 * lit goes to MIDDLE, unless that made more than BRIGHTEST of it too bright; where that much is too bright already it goes down, and stays below for a minute or so.
 * Own rule. Tried: the middle alone, and rising slowly in place of remembering: on a glossy part both come to 2, where 15 % of it blooms, against 1 to 5 % so, as the
 * views without a reflection outweigh those with one; measured by core/test/exposing.test.ts. What a longer exposure smears is not weighed: RANGE bounds it.
 */
export function autoExposure() {
  let ceiling = RANGE[1]
  /** The exposure after a frame at `exposure`: that itself where it is good, or where the frame shows too little. */
  return (exposure: number, { intensity, dark = 0, bright = 0 }: Lit): number => {
    const n = intensity.length
    const to = (wanted: number) => {
      const factor = Math.min(wanted, ceiling / exposure)
      if (factor < SETTLED && factor > 1 / SETTLED) return exposure
      const next = exposure * Math.min(FASTEST, Math.max(1 / FASTEST, factor))
      return Number(Math.min(RANGE[1], Math.max(RANGE[0], next)).toPrecision(3))
    }
    if (n < FEWEST && dark + bright < 0.5) return exposure
    ceiling = Math.min(RANGE[1], ceiling * FORGETS)
    if (bright > BRIGHTEST && WORSE * bright > dark) ceiling = Math.min(ceiling, exposure / SETTLED)
    if (n < FEWEST) return to(bright > dark ? 1 / FASTEST : FASTEST)
    const counts = new Uint32Array(256)
    for (let i = 0; i < n; i++) counts[intensity[i]]++
    const levelAt = (share: number) => {
      let [k, sum] = [0, counts[0]]
      while (k < 255 && sum < share * n) sum += counts[++k]
      return Math.max(1, k)
    }
    // of all that was lit, and not only of what was measured: what is missing lies below it
    const wanted = MIDDLE / levelAt(Math.max(0, (0.5 - dark) / Math.max(1e-9, 1 - dark)))
    return to(wanted > 1 ? Math.max(1, Math.min(wanted, NEARLY / levelAt(1 - BRIGHTEST))) : wanted)
  }
}

/** Levels of the points of a frame (3N mm, scanner coordinates; `pose` brings them to the model) that lie within so many mm of a place of the model. */
export function levelsAround(xyz: Float32Array, intensity: Uint8Array, pose: Mat4, [x, y, z]: readonly number[], radius: number): Uint8Array {
  // the place as the scanner sees it: the points need not be moved
  const at = transformPoint(invertRigid(pose), x, y, z)
  const out = new Uint8Array(intensity.length)
  let n = 0
  for (let i = 0; i < intensity.length; i++)
    if ((xyz[3 * i] - at[0]) ** 2 + (xyz[3 * i + 1] - at[1]) ** 2 + (xyz[3 * i + 2] - at[2]) ** 2 < radius * radius) out[n++] = intensity[i]
  return out.subarray(0, n)
}

export type Surface = keyof typeof MATERIALS
export const isGlossy = (surface: Surface): boolean => MATERIALS[surface].gloss > MIRRORS

/** The exposure to begin with on a surface, 1: matt white at the ideal distance is well exposed. */
export function usualExposure(surface: Surface): number {
  const matt = MIDDLE / (WHITE * MATERIALS[surface].albedo * SLANT)
  return Number((isGlossy(surface) ? GLOSSY * matt : matt).toPrecision(2))
}
