/** Colours of a deviation, ours: deep teal (material missing), linen (nominal), burnt orange (material extra). Stepped, and told apart by lightness too. */
export const LINEN: Rgb = [240, 232, 214]
export const EXTRA: readonly Rgb[] = [
  [243, 214, 176],
  [232, 176, 112],
  [214, 132, 54],
  [182, 96, 24],
]
export const MISSING: readonly Rgb[] = [
  [203, 222, 216],
  [142, 187, 181],
  [78, 144, 140],
  [32, 104, 103],
]
export const BEYOND_EXTRA: Rgb = [132, 60, 10]
export const BEYOND_MISSING: Rgb = [10, 68, 70]
export type Rgb = readonly [number, number, number]

/** Colour of a deviation, mm: linen inside the limit, four steps to the end of the scale, then beyond. */
export function deviationColour(v: number, limit: number, scale: number): Rgb {
  const a = Math.abs(v)
  if (!(a > limit)) return LINEN
  if (a > scale) return v > 0 ? BEYOND_EXTRA : BEYOND_MISSING
  const step = Math.min(3, Math.floor((4 * (a - limit)) / Math.max(1e-9, scale - limit)))
  return (v > 0 ? EXTRA : MISSING)[step]
}

/** Swatches by which passes are told apart; none is a colour of the deviation. */
export const SWATCHES: readonly Rgb[] = [
  [139, 113, 84],
  [93, 116, 133],
  [122, 132, 96],
  [156, 122, 130],
  [104, 96, 132],
  [172, 146, 92],
  [88, 130, 122],
  [150, 100, 82],
]
