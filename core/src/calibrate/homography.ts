import { jacobiEigen } from '../base/eigen.ts'

/**
 * Plane-to-image map from at least four point pairs: direct linear transform on normalised coordinates (Hartley 1997).
 * plane, pixels: 2N. Nine numbers, row major, h[8] = 1; undefined when the points lie on a line.
 */
export function homography(plane: ArrayLike<number>, pixels: ArrayLike<number>): Float64Array | undefined {
  const n = plane.length >> 1
  if (n < 4) return undefined
  const a = normaliser(plane)
  const b = normaliser(pixels)
  if (!a || !b) return undefined
  const m = new Float64Array(81)
  const row = new Float64Array(9)
  for (let i = 0; i < n; i++) {
    const x = (plane[2 * i] - a.x) * a.s
    const y = (plane[2 * i + 1] - a.y) * a.s
    const u = (pixels[2 * i] - b.x) * b.s
    const v = (pixels[2 * i + 1] - b.y) * b.s
    for (let k = 0; k < 2; k++) {
      const w = k === 0 ? u : v
      row.fill(0)
      row[3 * k] = x
      row[3 * k + 1] = y
      row[3 * k + 2] = 1
      row[6] = -w * x
      row[7] = -w * y
      row[8] = -w
      for (let r = 0; r < 9; r++) for (let c = 0; c < 9; c++) m[9 * r + c] += row[r] * row[c]
    }
  }
  const { values, vectors } = jacobiEigen(m, 9)
  // two null directions: the points leave a freedom
  if (!(values[1] > 1e-9 * values[8])) return undefined
  const h = Float64Array.from({ length: 9 }, (_, r) => vectors[9 * r])
  // back to the given coordinates: B^-1 h A
  const left = Float64Array.of(1 / b.s, 0, b.x, 0, 1 / b.s, b.y, 0, 0, 1)
  const right = Float64Array.of(a.s, 0, -a.s * a.x, 0, a.s, -a.s * a.y, 0, 0, 1)
  const out = multiply3(multiply3(left, h), right)
  const s = 1 / out[8]
  if (!Number.isFinite(s)) return undefined
  return out.map((v) => v * s)
}

/** Where the map sends (x, y): out[0], out[1]. */
export function mapPoint(h: ArrayLike<number>, x: number, y: number, out: Float64Array): void {
  const w = h[6] * x + h[7] * y + h[8]
  out[0] = (h[0] * x + h[1] * y + h[2]) / w
  out[1] = (h[3] * x + h[4] * y + h[5]) / w
}

export function multiply3(a: ArrayLike<number>, b: ArrayLike<number>): Float64Array {
  const m = new Float64Array(9)
  for (let i = 0; i < 3; i++) for (let j = 0; j < 3; j++) m[3 * i + j] = a[3 * i] * b[j] + a[3 * i + 1] * b[3 + j] + a[3 * i + 2] * b[6 + j]
  return m
}

function normaliser(p: ArrayLike<number>): { x: number; y: number; s: number } | undefined {
  const n = p.length >> 1
  let x = 0
  let y = 0
  for (let i = 0; i < n; i++) {
    x += p[2 * i] / n
    y += p[2 * i + 1] / n
  }
  let d = 0
  for (let i = 0; i < n; i++) d += Math.hypot(p[2 * i] - x, p[2 * i + 1] - y) / n
  return d > 0 ? { x, y, s: Math.SQRT2 / d } : undefined
}
