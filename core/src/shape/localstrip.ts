import { machine, surfaceFound, useRows } from '../simd/machine.ts'
import type { SurfaceGrid } from './localsurface.ts'

/** The plane of a narrow face around a place. Reused from call to call. */
export interface LocalStrip {
  /** points within the ball and the band; 0 when they determine no plane */
  count: number
  /** height of the plane above the place, along the given normal, mm */
  height: number
  /** unit normal, on the side of the given one */
  nx: number
  ny: number
  nz: number
  /** standard deviation of the points across the plane, mm (3 degrees of freedom taken off) */
  sigma: number
  /** variance of `height` for points of unit variance */
  leverage: number
  /** F of a quadric against the plane: large where the face bends within the ball */
  bend: number
  /** how far the points' middle lies to one side, as a share of the radius */
  offside: number
  /** standard deviation of the points along the shorter direction of the face, mm: its width over 3.5 */
  width: number
}

export const newLocalStrip = (): LocalStrip => ({ count: 0, height: 0, nx: 0, ny: 0, nz: 1, sigma: 0, leverage: 0, bend: 0, offside: 0, width: 0 })

/**
 * Least-squares plane through the points within r of (x, y, z) that lie less than `band` (mm) from the plane through it with the given normal: a face so narrow
 * that any ball holds more of its neighbours than of itself. Weights as in localSurface. Computed by core/simd/surface.ts.
 */
export function localStrip(
  g: SurfaceGrid,
  x: number,
  y: number,
  z: number,
  r: number,
  nx: number,
  ny: number,
  nz: number,
  band: number,
  out: LocalStrip,
): void {
  useRows(g, r)
  machine().fitStrip(x, y, z, r, nx, ny, nz, band)
  const f = surfaceFound()
  out.count = f[0]
  if (out.count < 8) return
  out.height = f[1]
  out.nx = f[2]
  out.ny = f[3]
  out.nz = f[4]
  out.sigma = f[5]
  out.leverage = f[6]
  out.bend = f[7]
  out.offside = f[8]
  out.width = f[9]
}
