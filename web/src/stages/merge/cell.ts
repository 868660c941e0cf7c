import type { TrayItem } from '@oak-gauge/contract'

/** Middle one of the passes' point spacings, mm; 0 where none is known. */
export function spacingOf(passes: Pick<TrayItem, 'spacing'>[]): number {
  const s = passes.flatMap((p) => (p.spacing ? [p.spacing] : [])).sort((a, b) => a - b)
  return s[(s.length - 1) >> 1] ?? 0
}

/**
 * Cell size to begin with, mm: a tenth more than the points are apart, since finer there is nothing to see, and never finer than the passes
 * agree, since finer it would lie. In round figures, upwards. Passes that an earlier version took in do not say their spacing: 0.3 then.
 */
export function usualCell(spacing: number, error: number): number {
  const least = Math.max(spacing ? 1.1 * spacing : 0.3, error)
  const step = least > 2 ? 0.5 : least > 0.2 ? 0.05 : least > 0.02 ? 0.005 : 0.001
  return Number((Math.ceil(least / step - 1e-9) * step).toFixed(4))
}
