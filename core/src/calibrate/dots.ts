import { normalBelow } from '../base/normal.ts'
import { integralImage, type GreyImage } from './image.ts'

/** Dark dots on bright ground, each measured to a small part of a pixel. Arrays have one entry a dot; lengths in px. */
export interface Dots {
  count: number
  /** centres, 2N */
  centres: Float64Array
  /** half axes of the ellipse */
  major: Float64Array
  minor: Float64Array
  /** ellipse as a dx^2 + 2 b dx dy + c dy^2 = 1: a, b, c, 3N */
  shapes: Float64Array
  /** brightness of the ground around, and of the dot, grey levels */
  ground: Float64Array
  ink: Float64Array
  /** standard deviation of the edge's blur */
  blur: Float64Array
}

export interface DotOptions {
  /** smallest and largest half axis taken for a dot, px. Default 2.2 and 60 */
  smallest?: number
  largest?: number
  /** darkest share of the ground's brightness that still counts as a dot. Default 0.75 */
  contrast?: number
}

/**
 * Finds dots by a threshold that follows the light (mean of the surroundings), starts from the grey-value centroid of 1 - I / ground, the
 * ground being a plane fitted to the ring around the dot (uneven light and vignetting multiply the image, and so fall out), and ends with a
 * blurred ellipse laid on the grey values. The centre is that of the dot's *image*: the circle's centre lies elsewhere (see
 * centrebias.ts). Errors: npm run bench, part calibrate. Tried: the centroid alone (a half more noise: pixels away from the edge have no
 * information and bring theirs).
 */
export function findDots(image: GreyImage, options: DotOptions = {}): Dots {
  const smallest = options.smallest ?? 2.2
  const largest = options.largest ?? Math.min(60, image.width / 12)
  const blobs = darkBlobs(image, options.contrast ?? 0.75, Math.PI * smallest * smallest * 0.5, Math.PI * largest * largest)
  const found: number[][] = []
  for (const b of blobs) {
    const m = measureDot(image, b)
    if (m && m[3] >= smallest && m[2] <= largest) found.push(m)
  }
  const column = (k: number) => Float64Array.from(found, (f) => f[k])
  return {
    count: found.length,
    centres: Float64Array.from(found.flatMap((f) => [f[0], f[1]])),
    major: column(2),
    minor: column(3),
    ground: column(4),
    ink: column(5),
    blur: column(6),
    shapes: Float64Array.from(found.flatMap((f) => f.slice(7, 10))),
  }
}

interface Blob {
  area: number
  x: number
  y: number
  xx: number
  xy: number
  yy: number
}

/** Connected dark areas away from the image's border, with their moments. */
function darkBlobs(image: GreyImage, share: number, least: number, most: number): Blob[] {
  const { width, height, data } = image
  const s = integralImage(image)
  const half = Math.max(10, Math.round(width / 28))
  const dark = new Uint8Array(width * height)
  const w = width + 1
  for (let y = 0; y < height; y++) {
    const y0 = Math.max(0, y - half)
    const y1 = Math.min(height, y + half + 1)
    for (let x = 0; x < width; x++) {
      const x0 = Math.max(0, x - half)
      const x1 = Math.min(width, x + half + 1)
      const mean = (s[y1 * w + x1] - s[y0 * w + x1] - s[y1 * w + x0] + s[y0 * w + x0]) / ((x1 - x0) * (y1 - y0))
      // ground is brighter than the mean of dots and ground
      if (data[y * width + x] < share * 1.1 * mean && mean > 12) dark[y * width + x] = 1
    }
  }
  const blobs: Blob[] = []
  const stack = new Int32Array(width * height)
  for (let start = 0; start < dark.length; start++) {
    if (dark[start] !== 1) continue
    let top = 0
    stack[top++] = start
    dark[start] = 2
    let n = 0
    let [sx, sy, xx, xy, yy] = [0, 0, 0, 0, 0]
    let border = false
    while (top > 0) {
      const at = stack[--top]
      const x = at % width
      const y = (at - x) / width
      n++
      sx += x
      sy += y
      xx += x * x
      xy += x * y
      yy += y * y
      if (x === 0 || y === 0 || x === width - 1 || y === height - 1) {
        border = true
        continue
      }
      if (dark[at - 1] === 1) dark[(stack[top++] = at - 1)] = 2
      if (dark[at + 1] === 1) dark[(stack[top++] = at + 1)] = 2
      if (dark[at - width] === 1) dark[(stack[top++] = at - width)] = 2
      if (dark[at + width] === 1) dark[(stack[top++] = at + width)] = 2
    }
    if (border || n < least || n > most) continue
    const x = sx / n
    const y = sy / n
    blobs.push({ area: n, x, y, xx: xx / n - x * x + 1 / 12, xy: xy / n - x * y, yy: yy / n - y * y + 1 / 12 })
  }
  return blobs
}

/** Scratch of one dot's window: distance outside of the ellipse, px. */
let outside = new Float32Array(1024)

/** [x, y, major, minor, ground, ink, blur, a, b, c], or undefined when it is no dot. */
function measureDot(image: GreyImage, blob: Blob): number[] | undefined {
  const { width, height, data } = image
  // half axes of the ellipse with the blob's moments
  const mean = (blob.xx + blob.yy) / 2
  const dif = Math.sqrt(((blob.xx - blob.yy) / 2) ** 2 + blob.xy * blob.xy)
  let major = 2 * Math.sqrt(mean + dif)
  let minor = 2 * Math.sqrt(Math.max(0.05, mean - dif))
  // an ellipse fills its moments; a letter, a ring or two dots grown together do not
  const fill = blob.area / (Math.PI * major * minor)
  if (fill < 0.88 || fill > 1.12 || major > 5 * minor) return undefined
  const det = blob.xx * blob.yy - blob.xy * blob.xy
  if (!(det > 0)) return undefined
  // the ellipse as a dx^2 + 2 b dx dy + c dy^2 = 1
  let a = blob.yy / det / 4
  let b = -blob.xy / det / 4
  let c = blob.xx / det / 4
  // too near the image's border for the ground all around to be seen
  if (blob.x < major + 4 || blob.y < major + 4 || blob.x > width - 5 - major || blob.y > height - 5 - major) return undefined
  const reach = major + 6
  const x0 = Math.max(0, Math.floor(blob.x - reach))
  const x1 = Math.min(width - 1, Math.ceil(blob.x + reach))
  const y0 = Math.max(0, Math.floor(blob.y - reach))
  const y1 = Math.min(height - 1, Math.ceil(blob.y + reach))
  const w = x1 - x0 + 1
  const area = w * (y1 - y0 + 1)
  if (outside.length < area) outside = new Float32Array(2 * area)
  let ink = 0
  let inks = 0
  for (let py = y0, at = 0; py <= y1; py++)
    for (let px = x0; px <= x1; px++, at++) {
      const dx = px - blob.x
      const dy = py - blob.y
      const q = Math.sqrt(a * dx * dx + 2 * b * dx * dy + c * dy * dy)
      // along the radius
      outside[at] = q < 1e-6 ? -minor : (Math.sqrt(dx * dx + dy * dy) * (q - 1)) / q
      if (q < 0.55) {
        ink += data[py * width + px]
        inks++
      }
    }
  const ground = groundPlane(data, width, x0, x1, y0, y1, blob.x, blob.y)
  if (!ground || inks === 0) return undefined
  const [g0, gx, gy] = ground
  ink /= inks * Math.max(1, g0)
  if (ink > 0.8) return undefined
  let [sw, sx, sy, slope, edges] = [0, 0, 0, 0, 0]
  for (let py = y0, at = 0; py <= y1; py++)
    for (let px = x0; px <= x1; px++, at++) {
      const out = outside[at]
      if (out > 2.6) continue
      // the window's own edge fades out, so that no pixel enters or leaves by steps
      const fade = out > 1.6 ? 2.6 - out : 1
      const dx = px - blob.x
      const dy = py - blob.y
      const weight = fade * (1 - data[py * width + px] / Math.max(1, g0 + gx * dx + gy * dy))
      sw += weight
      sx += weight * dx
      sy += weight * dy
      if (out > -0.6 && out < 0.6 && px > 0 && py > 0) {
        const i = py * width + px
        slope += Math.sqrt((data[i + 1] - data[i - 1]) ** 2 + (data[i + width] - data[i - width]) ** 2) / 2
        edges++
      }
    }
  if (!(sw > 0)) return undefined
  const x = blob.x + sx / sw
  const y = blob.y + sy / sw
  if (edges === 0) return undefined
  // steepest slope of an edge blurred by sigma: contrast / (sigma sqrt(2 pi))
  // less what taking differences over two pixels, and a band around the edge, adds to it
  const apparent = (g0 * (1 - ink) * edges) / (2.5066 * slope)
  const blur = Math.sqrt(Math.max(0.1, apparent * apparent - 0.45))
  // the threshold cuts the dot a little too small or too large: its grey values say how large it is
  const grow = sw / (1 - ink) / (Math.PI * major * minor)
  if (!(grow > 0.5 && grow < 2)) return undefined
  major *= Math.sqrt(grow)
  minor *= Math.sqrt(grow)
  a /= grow
  b /= grow
  c /= grow
  const centre = edgeCentre(data, width, [x0, x1, y0, y1], [x, y, a, b, c], ground, blob, ink, Math.max(0.45, Math.min(3, blur)))
  if (!centre || (centre[0] - blob.x) ** 2 + (centre[1] - blob.y) ** 2 > 2) return undefined
  return [centre[0], centre[1], major, minor, g0, ink * g0, blur, a, b, c]
}

/**
 * Moves the centre until a blurred ellipse lies best on the grey values: two Gauss-Newton steps in x and y alone. Size, slant, blur and
 * ink are taken as found: by the symmetry of the ellipse their errors do not move the centre. Pixels away from the edge have
 * no say, and so bring no noise.
 */
function edgeCentre(
  data: Uint8Array,
  width: number,
  [x0, x1, y0, y1]: number[],
  [startX, startY, a, b, c]: number[],
  [g0, gx, gy]: [number, number, number],
  blob: Blob,
  ink: number,
  sigma: number,
): [number, number] | undefined {
  let [x, y] = [startX, startY]
  for (let round = 0; round < 2; round++) {
    let [xx, xy, yy, ex, ey] = [0, 0, 0, 0, 0]
    for (let py = y0; py <= y1; py++)
      for (let px = x0; px <= x1; px++) {
        const dx = px - x
        const dy = py - y
        const q2 = a * dx * dx + 2 * b * dx * dy + c * dy * dy
        if (q2 < 0.04) continue
        // signed distance to the ellipse to first order: (q - 1) over its slope
        const q = Math.sqrt(q2)
        const nx = (a * dx + b * dy) / q
        const ny = (b * dx + c * dy) / q
        const slope = Math.sqrt(nx * nx + ny * ny)
        const s = (q - 1) / slope / sigma
        if (s > 3.2 || s < -3.2) continue
        const g = g0 + gx * (px - blob.x) + gy * (py - blob.y)
        const steep = (g * (1 - ink) * 0.3989422804 * Math.exp(-0.5 * s * s)) / sigma / slope
        const model = g * (ink + (1 - ink) * normalBelow(s))
        const e = data[py * width + px] - model
        // the model falls by this when the centre moves along x or y
        const jx = -steep * nx
        const jy = -steep * ny
        xx += jx * jx
        xy += jx * jy
        yy += jy * jy
        ex += jx * e
        ey += jy * e
      }
    const det = xx * yy - xy * xy
    if (!(det > 0)) return undefined
    x += (ex * yy - ey * xy) / det
    y += (ey * xx - ex * xy) / det
  }
  return [x, y]
}

/** Brightness of the ring around a dot as a plane: [at the centre, by x, by y]. */
function groundPlane(
  data: Uint8Array,
  width: number,
  x0: number,
  x1: number,
  y0: number,
  y1: number,
  x: number,
  y: number,
): [number, number, number] | undefined {
  let [n, sx, sy, sxx, sxy, syy, si, six, siy] = [0, 0, 0, 0, 0, 0, 0, 0, 0]
  for (let py = y0, at = 0; py <= y1; py++)
    for (let px = x0; px <= x1; px++, at++) {
      if (outside[at] < 2.4 || outside[at] > 5) continue
      const dx = px - x
      const dy = py - y
      const v = data[py * width + px]
      n++
      sx += dx
      sy += dy
      sxx += dx * dx
      sxy += dx * dy
      syy += dy * dy
      si += v
      six += v * dx
      siy += v * dy
    }
  if (n < 12) return undefined
  // normal equations of v = g0 + gx dx + gy dy, by elimination of the mean
  const mx = sx / n
  const my = sy / n
  const cxx = sxx - n * mx * mx
  const cxy = sxy - n * mx * my
  const cyy = syy - n * my * my
  const ix = six - mx * si
  const iy = siy - my * si
  const det = cxx * cyy - cxy * cxy
  if (!(det > 0)) return undefined
  const gx = (ix * cyy - iy * cxy) / det
  const gy = (iy * cxx - ix * cxy) / det
  return [si / n - gx * mx - gy * my, gx, gy]
}
