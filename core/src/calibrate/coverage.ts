/** How often each part of the image was looked at: counts on a grid of cells, row after row. */
export interface Coverage {
  columns: number
  rows: number
  counts: number[]
}

export const emptyCoverage = (columns = 12, rows = 9): Coverage => ({ columns, rows, counts: Array.from({ length: columns * rows }, () => 0) })

/** Counts the pixels (2N) of one more image. Changes `c`. */
export function cover(c: Coverage, pixels: ArrayLike<number>, width: number, height: number): void {
  for (let i = 0; i < pixels.length; i += 2) {
    const x = Math.min(c.columns - 1, Math.max(0, Math.floor(((pixels[i] + 0.5) / width) * c.columns)))
    const y = Math.min(c.rows - 1, Math.max(0, Math.floor(((pixels[i + 1] + 0.5) / height) * c.rows)))
    c.counts[y * c.columns + x]++
  }
}

/** Share of the cells that were seen at least `least` times, 0..1. */
export const coveredShare = (c: Coverage, least = 3) => c.counts.filter((n) => n >= least).length / c.counts.length
