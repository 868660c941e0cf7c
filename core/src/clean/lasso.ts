import { u8 } from '../base/arrays.ts'

/** A free-hand loop on the screen with the camera it was drawn with: geometry, so that it can be applied again to other points. */
export interface Lasso {
  /** job coordinates to clip space, 16 numbers row major */
  view: number[]
  /** loop in clip space -1..1, x and y in turn */
  loop: number[]
  /** only what is in front: within this depth (mm along the view) of the nearest point at that place; undefined for right through */
  frontDepth?: number
}

/**
 * Flags of 3N points (job coordinates): 1 inside the loop (even-odd rule). With `frontDepth` hidden points behind a nearer
 * surface are spared: the screen is divided into 512 x 512 places, and each keeps its nearest depth.
 */
export function insideLasso(xyz: Float32Array, lasso: Lasso, depthAxis: ArrayLike<number>): Uint8Array {
  const n = xyz.length / 3
  const m = lasso.view
  const out = u8(n)
  const PLACES = 512
  const nearest = lasso.frontDepth === undefined ? undefined : new Float32Array(PLACES * PLACES).fill(Infinity)
  const place = nearest && new Int32Array(n).fill(-1)
  for (let i = 0; i < n; i++) {
    const x = xyz[3 * i],
      y = xyz[3 * i + 1],
      z = xyz[3 * i + 2]
    const w = m[12] * x + m[13] * y + m[14] * z + m[15]
    if (w <= 0) continue
    const u = (m[0] * x + m[1] * y + m[2] * z + m[3]) / w
    const v = (m[4] * x + m[5] * y + m[6] * z + m[7]) / w
    if (u < -1 || u > 1 || v < -1 || v > 1) continue
    if (nearest && place) {
      const c = Math.min(PLACES - 1, Math.floor(((u + 1) / 2) * PLACES)) + PLACES * Math.min(PLACES - 1, Math.floor(((v + 1) / 2) * PLACES))
      place[i] = c
      const d = depthAxis[0] * x + depthAxis[1] * y + depthAxis[2] * z
      if (d < nearest[c]) nearest[c] = d
    }
    if (inside(lasso.loop, u, v)) out[i] = 1
  }
  if (nearest && place)
    for (let i = 0; i < n; i++) {
      if (!out[i]) continue
      const d = depthAxis[0] * xyz[3 * i] + depthAxis[1] * xyz[3 * i + 1] + depthAxis[2] * xyz[3 * i + 2]
      if (d > nearest[place[i]] + (lasso.frontDepth as number)) out[i] = 0
    }
  return out
}

function inside(loop: number[], x: number, y: number): boolean {
  let odd = false
  for (let i = 0, j = loop.length - 2; i < loop.length; j = i, i += 2) {
    const [xi, yi, xj, yj] = [loop[i], loop[i + 1], loop[j], loop[j + 1]]
    if (yi > y !== yj > y && x < ((xj - xi) * (y - yi)) / (yj - yi) + xi) odd = !odd
  }
  return odd
}
