import { machine, useRows } from '../simd/machine.ts'
import type { RowGrid } from '../space/rowgrid.ts'

/** Least-squares plane through the points around a place. Reused from call to call. */
export interface LocalPlane {
  count: number
  /** centroid */
  cx: number
  cy: number
  cz: number
  /** unit normal, sign arbitrary */
  nx: number
  ny: number
  nz: number
  /** standard deviation of the points across the plane, mm (3 degrees of freedom taken off) */
  sigma: number
  /** share of the spread along the second direction against the first: 0 a line, 1 round */
  breadth: number
}

export const newLocalPlane = (): LocalPlane => ({ count: 0, cx: 0, cy: 0, cz: 0, nx: 0, ny: 0, nz: 1, sigma: 0, breadth: 0 })

/**
 * Plane through all points of the grid within r of (x, y, z), by the covariance's smallest eigenvector (Pearson 1901).
 * plane.count is the number of points; below 4 nothing else is set. r is at most 15 row widths (RangeError).
 * The radius trades noise against curvature (Mitra, Nguyen and Guibas 2004): about 4 point spacings is best.
 * Computed by core/simd/plane.ts; the same loop in JavaScript took four times as long.
 */
export function localPlane(g: RowGrid, x: number, y: number, z: number, r: number, plane: LocalPlane): void {
  useRows(g, r)
  const m = machine()
  m.fitPlane(x, y, z, r)
  plane.count = m.count.value
  if (plane.count < 4) return
  plane.cx = m.cx.value
  plane.cy = m.cy.value
  plane.cz = m.cz.value
  plane.nx = m.nx.value
  plane.ny = m.ny.value
  plane.nz = m.nz.value
  plane.sigma = m.sigma.value
  plane.breadth = m.breadth.value
}
