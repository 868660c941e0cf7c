import { smallestEigen3 } from '../base/eigen.ts'
import { rowRuns, type RowGrid } from '../space/rowgrid.ts'

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

const eigen = new Float64Array(6)

/**
 * Plane through all points of the grid within r of (x, y, z), by the covariance's smallest eigenvector (Pearson 1901).
 * plane.count is the number of points; below 4 nothing else is set.
 * The radius trades noise against curvature (Mitra, Nguyen and Guibas 2004): about 4 point spacings is best.
 */
export function localPlane(g: RowGrid, x: number, y: number, z: number, r: number, runs: Int32Array, plane: LocalPlane): void {
  const m = rowRuns(g, x, y, z, r, runs)
  const p = g.xyz
  const r2 = r * r
  let n = 0
  let sx = 0
  let sy = 0
  let sz = 0
  let xx = 0
  let xy = 0
  let xz = 0
  let yy = 0
  let yz = 0
  let zz = 0
  for (let k = 0; k < m; k++) {
    const end = 3 * runs[2 * k + 1]
    for (let i = 3 * runs[2 * k]; i < end; i += 3) {
      const dx = p[i] - x
      const dy = p[i + 1] - y
      const dz = p[i + 2] - z
      if (dx * dx + dy * dy + dz * dz > r2) continue
      n++
      sx += dx
      sy += dy
      sz += dz
      xx += dx * dx
      xy += dx * dy
      xz += dx * dz
      yy += dy * dy
      yz += dy * dz
      zz += dz * dz
    }
  }
  plane.count = n
  if (n < 4) return
  const i = 1 / n
  const mx = sx * i
  const my = sy * i
  const mz = sz * i
  smallestEigen3(xx * i - mx * mx, xy * i - mx * my, xz * i - mx * mz, yy * i - my * my, yz * i - my * mz, zz * i - mz * mz, eigen)
  plane.cx = x + mx
  plane.cy = y + my
  plane.cz = z + mz
  plane.nx = eigen[0]
  plane.ny = eigen[1]
  plane.nz = eigen[2]
  plane.sigma = Math.sqrt((Math.max(0, eigen[3]) * n) / (n - 3))
  plane.breadth = eigen[5] > 0 ? Math.max(0, eigen[4]) / eigen[5] : 0
}
