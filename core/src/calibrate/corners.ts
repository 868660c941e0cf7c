import type { GreyImage } from './image.ts'

/** Corners where two dark and two bright squares meet. */
export interface Corners {
  count: number
  /** 2N px */
  centres: Float64Array
  /** of the saddle, as a share of the strongest; falling */
  strength: Float64Array
}

export interface CornerOptions {
  /** half width of the window in which a corner is refined, px. Default 5 */
  window?: number
  /** weakest corner kept, as a share of the strongest. Default 0.05 */
  share?: number
  /** most corners returned. Default 600 */
  most?: number
}

/**
 * Corners of a chessboard: saddle points of the smoothed image (largest Ixy² - Ixx Iyy), kept when a circle around them shows two dark and
 * two bright quarters, then refined so that every gradient in the window stands square to the way to the corner (Foerstner and Guelch
 * 1987, with a Gaussian window).
 * On the 13 public images of core/test/fixtures/calibration within 0.02 px of the published corners' solution; see core/test/calibration.test.ts.
 */
export function findCorners(image: GreyImage, options: CornerOptions = {}): Corners {
  const { width, height } = image
  const half = options.window ?? 5
  const soft = smoothed(image)
  const saddle = new Float32Array(width * height)
  let strongest = 0
  for (let y = 2; y < height - 2; y++)
    for (let x = 2; x < width - 2; x++) {
      const i = y * width + x
      const xx = soft[i - 1] - 2 * soft[i] + soft[i + 1]
      const yy = soft[i - width] - 2 * soft[i] + soft[i + width]
      const xy = (soft[i - width - 1] + soft[i + width + 1] - soft[i - width + 1] - soft[i + width - 1]) / 4
      saddle[i] = xy * xy - xx * yy
      if (saddle[i] > strongest) strongest = saddle[i]
    }
  const found: { x: number; y: number; s: number }[] = []
  const least = (options.share ?? 0.05) * strongest
  const margin = half + 3
  for (let y = margin; y < height - margin; y++)
    for (let x = margin; x < width - margin; x++) {
      const s = saddle[y * width + x]
      if (s > least && isPeak(saddle, width, x, y, s) && hasQuarters(soft, width, x, y)) found.push({ x, y, s })
    }
  found.sort((a, b) => b.s - a.s)
  const centres: number[] = []
  const strength: number[] = []
  for (const f of found.slice(0, options.most ?? 600)) {
    const p = refined(image, f.x, f.y, half)
    if (!p) continue
    centres.push(p[0], p[1])
    strength.push(f.s / strongest)
  }
  return { count: centres.length / 2, centres: Float64Array.from(centres), strength: Float64Array.from(strength) }
}

function isPeak(a: Float32Array, width: number, x: number, y: number, s: number): boolean {
  for (let v = -3; v <= 3; v++)
    for (let u = -3; u <= 3; u++) {
      const n = a[(y + v) * width + x + u]
      // of equal neighbours the first one counts
      if (n > s || (n === s && (v < 0 || (v === 0 && u < 0)))) return false
    }
  return true
}

/** Brightness around the point: opposite directions alike, quarter turns unlike. */
function hasQuarters(a: Float32Array, width: number, x: number, y: number): boolean {
  const n = 16
  const ring: number[] = []
  for (let k = 0; k < n; k++) {
    const t = (2 * Math.PI * k) / n
    ring.push(a[Math.round(y + 4 * Math.sin(t)) * width + Math.round(x + 4 * Math.cos(t))])
  }
  const mean = ring.reduce((s, v) => s + v, 0) / n
  let [own, opposite, quarter] = [0, 0, 0]
  for (let k = 0; k < n; k++) {
    const d = ring[k] - mean
    own += d * d
    opposite += d * (ring[(k + n / 2) % n] - mean)
    quarter += d * (ring[(k + n / 4) % n] - mean)
  }
  return own / n > 25 && opposite > 0.55 * own && quarter < 0
}

/** Gaussian of 1 px, by five taps. */
function smoothed({ width, height, data }: GreyImage): Float32Array {
  const k = [0.0545, 0.2442, 0.4026, 0.2442, 0.0545]
  const across = new Float32Array(width * height)
  for (let y = 0; y < height; y++)
    for (let x = 0; x < width; x++) {
      let s = 0
      for (let d = -2; d <= 2; d++) s += k[d + 2] * data[y * width + Math.min(width - 1, Math.max(0, x + d))]
      across[y * width + x] = s
    }
  const out = new Float32Array(width * height)
  for (let y = 0; y < height; y++)
    for (let x = 0; x < width; x++) {
      let s = 0
      for (let d = -2; d <= 2; d++) s += k[d + 2] * across[Math.min(height - 1, Math.max(0, y + d)) * width + x]
      out[y * width + x] = s
    }
  return out
}

function refined({ width, height, data }: GreyImage, startX: number, startY: number, half: number): [number, number] | undefined {
  const at = (x: number, y: number) => {
    const ix = Math.floor(x)
    const iy = Math.floor(y)
    const fx = x - ix
    const fy = y - iy
    const i = iy * width + ix
    return (1 - fy) * ((1 - fx) * data[i] + fx * data[i + 1]) + fy * ((1 - fx) * data[i + width] + fx * data[i + width + 1])
  }
  let x = startX
  let y = startY
  for (let round = 0; round < 60; round++) {
    if (x < half + 2 || y < half + 2 || x > width - half - 3 || y > height - half - 3) return undefined
    let [xx, xy, yy, bx, by] = [0, 0, 0, 0, 0]
    for (let v = -half; v <= half; v++)
      for (let u = -half; u <= half; u++) {
        const w = Math.exp(-(u * u + v * v) / (half * half))
        const gx = at(x + u + 1, y + v) - at(x + u - 1, y + v)
        const gy = at(x + u, y + v + 1) - at(x + u, y + v - 1)
        const a = w * gx * gx
        const b = w * gx * gy
        const c = w * gy * gy
        xx += a
        xy += b
        yy += c
        bx += a * u + b * v
        by += b * u + c * v
      }
    const det = xx * yy - xy * xy
    if (!(det > 1e-6 * xx * yy)) return undefined
    const dx = (bx * yy - by * xy) / det
    const dy = (by * xx - bx * xy) / det
    x += dx
    y += dy
    if (Math.abs(x - startX) > half || Math.abs(y - startY) > half) return undefined
    if (dx * dx + dy * dy < 1e-12) break
  }
  return [x, y]
}
