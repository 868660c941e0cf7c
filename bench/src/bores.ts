import { BOLTS, BORE_HEIGHT, NOMINAL_BRACKET } from '@oak-gauge/demo/parts/bracket.ts'

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

interface Bores {
  bore: Omit<BoreFit, 'count'>
  bolts: Omit<BoreFit, 'count'>[]
}

/** as they are drawn */
export const NOMINAL_BORES: Bores = {
  bore: { x: 0, y: BORE_HEIGHT, diameter: NOMINAL_BRACKET.bore },
  bolts: BOLTS.map(([x, y]) => ({ x, y, diameter: NOMINAL_BRACKET.bolt })),
}

/** The bracket's bores, from the vertices that lie near their nominal walls; v: as the nominal lies, mm */
export function bores(v: Float32Array): Bores {
  const near = (cx: number, cy: number, r: number, place: (i: number) => [number, number, number], lo: number, hi: number) => {
    const flat: number[] = []
    for (let i = 0; i < v.length; i += 3) {
      const [x, y, h] = place(i)
      if (h > lo && h < hi && Math.abs(Math.hypot(x - cx, y - cy) - r) < 0.3) flat.push(x, y)
    }
    return fitCircle(flat, cx, cy, r)
  }
  return {
    bore: near(0, BORE_HEIGHT, NOMINAL_BRACKET.bore / 2, (i) => [v[i], v[i + 2], v[i + 1]], -30, 30),
    bolts: BOLTS.map(([x, y], k) => near(x, y, NOMINAL_BRACKET.bolt / 2, (i) => [v[i], v[i + 1], v[i + 2]], 5, k < 2 ? 9.5 : 9)),
  }
}

/** The worst diameter, and the worst distance between two bolt holes, off what they truly are, mm. */
export function boresBeside(measured: Bores, truly: Bores): { diameter: number; apart: number } {
  const diameters = [measured.bore.diameter - truly.bore.diameter, ...measured.bolts.map((b, i) => b.diameter - truly.bolts[i].diameter)]
  const apart = (b: Bores['bolts'], i: number, j: number) => Math.hypot(b[i].x - b[j].x, b[i].y - b[j].y)
  const pairs = BOLTS.flatMap((_, i) => BOLTS.slice(0, i).map((_b, j) => apart(measured.bolts, i, j) - apart(truly.bolts, i, j)))
  return { diameter: Math.max(...diameters.map(Math.abs)), apart: Math.max(...pairs.map(Math.abs)) }
}
