export interface BoreFit {
  x: number
  y: number
  diameter: number
  count: number
}

/** Orthogonal-distance circle through 2N numbers by Gauss-Newton from a good start. */
export function fitCircle(flat: number[], x: number, y: number, r: number): BoreFit {
  const n = flat.length / 2
  for (let it = 0; it < 30; it++) {
    let [xx, xy, yy, sx, sy, gx, gy, gr] = [0, 0, 0, 0, 0, 0, 0, 0]
    for (let i = 0; i < n; i++) {
      const dx = flat[2 * i] - x
      const dy = flat[2 * i + 1] - y
      const d = Math.hypot(dx, dy)
      const [a, b, e] = [dx / d, dy / d, d - r]
      xx += a * a
      xy += a * b
      yy += b * b
      sx += a
      sy += b
      gx += a * e
      gy += b * e
      gr += e
    }
    // normal equations in (x, y, r), rows [a, b, 1]
    const det = xx * (yy * n - sy * sy) - xy * (xy * n - sy * sx) + sx * (xy * sy - yy * sx)
    const dx = (gx * (yy * n - sy * sy) - xy * (gy * n - sy * gr) + sx * (gy * sy - yy * gr)) / det
    const dy = (xx * (gy * n - gr * sy) - gx * (xy * n - sy * sx) + sx * (xy * gr - gy * sx)) / det
    const dr = (xx * (yy * gr - sy * gy) - xy * (xy * gr - gy * sx) + gx * (xy * sy - yy * sx)) / det
    x += dx
    y += dy
    r += dr
    if (Math.abs(dx) + Math.abs(dy) + Math.abs(dr) < 1e-10) break
  }
  return { x, y, diameter: 2 * r, count: n }
}
