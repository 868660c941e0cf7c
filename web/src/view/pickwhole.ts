/** A cloud of which every point is at hand. */
export interface Cloud {
  /** xyz of its points, in its own coordinates */
  pieces: Float32Array[]
  /** its coordinates to those of the eye (x right, y up, looking along -z) and to those of the job; by columns */
  toEye: ArrayLike<number>
  toJob: ArrayLike<number>
  /** between its points, mm */
  spacing: number
  /** of the thing drawn */
  object: number
}

/** What lies under the pixels around the pointer: of each the distance from the eye along the line of sight, and the place. */
export interface Window {
  /** px to each side of the pointer */
  reach: number
  depth: Float64Array
  /** x y z in the job, and the number of the object; -1: nothing */
  hit: Float32Array
}

export interface Sight {
  /** pointer from the upper left, and the picture, px */
  x: number
  y: number
  w: number
  h: number
  /** px for one mm at a distance of 1 mm */
  pixels: number
  /** nearest that is drawn, mm */
  near: number
  /** least size of a point, px */
  size: number
}

/** Points after which the clock is looked at. */
const LOOK = 65_536

/**
 * Draws clouds into the window, point by point, each as large as on the screen, so that what lies behind is covered. `pause` is awaited about every 6 ms: 20
 * million points take a tenth of a second, in which the page goes on answering.
 */
export async function drawClouds(
  { reach, depth, hit }: Window,
  clouds: readonly Cloud[],
  { x, y, w, h, pixels, near, size }: Sight,
  pause: () => Promise<void>,
) {
  const side = 2 * reach + 1
  const most = 6 * size
  const edge = reach + most / 2
  let began = performance.now()
  for (const { pieces, toEye: e, toJob: j, spacing, object } of clouds)
    for (const p of pieces)
      for (let from = 0; from < p.length; from += 3 * LOOK) {
        const end = Math.min(p.length, from + 3 * LOOK)
        for (let i = from; i < end; i += 3) {
          const px = p[i]
          const py = p[i + 1]
          const pz = p[i + 2]
          const away = -(e[2] * px + e[6] * py + e[10] * pz + e[14])
          if (away < near) continue
          const scale = pixels / away
          const dx = w / 2 + (e[0] * px + e[4] * py + e[8] * pz + e[12]) * scale - x
          if (dx > edge || dx < -edge) continue
          const dy = h / 2 - (e[1] * px + e[5] * py + e[9] * pz + e[13]) * scale - y
          if (dy > edge || dy < -edge) continue
          const half = Math.max(size, Math.min(most, 1.5 * spacing * scale)) / 2
          const [left, right] = [Math.max(0, Math.round(dx - half) + reach), Math.min(side - 1, Math.round(dx + half) + reach)]
          const [top, bottom] = [Math.max(0, Math.round(dy - half) + reach), Math.min(side - 1, Math.round(dy + half) + reach)]
          for (let r = top; r <= bottom; r++)
            for (let c = left; c <= right; c++) {
              const k = r * side + c
              if (away >= depth[k]) continue
              depth[k] = away
              hit[4 * k] = j[0] * px + j[4] * py + j[8] * pz + j[12]
              hit[4 * k + 1] = j[1] * px + j[5] * py + j[9] * pz + j[13]
              hit[4 * k + 2] = j[2] * px + j[6] * py + j[10] * pz + j[14]
              hit[4 * k + 3] = object
            }
        }
        if (performance.now() - began > 6) {
          await pause()
          began = performance.now()
        }
      }
}

/**
 * The pixel of the window that was met, by its place in it; -1 for none: the one nearest to the pointer. Points are drawn so large that they overlap, and
 * those nearer to the eye cover a part of the others: of points as deep as the one that was met, within `like` mm, the one whose middle is nearest counts.
 * like: by object; 0 of a surface. middle: px from the pointer to where a place of the job is seen, squared.
 */
export function nearestIn({ reach, depth, hit }: Window, like: (object: number) => number, middle: (x: number, y: number, z: number) => number): number {
  const side = 2 * reach + 1
  let met = -1
  let least = Infinity
  for (let k = 0; k < side * side; k++) {
    if (hit[4 * k + 3] < 1) continue
    const d = (Math.floor(k / side) - reach) ** 2 + ((k % side) - reach) ** 2
    if (d < least) [least, met] = [d, k]
  }
  if (met < 0) return -1
  const deep = like(hit[4 * met + 3])
  let best = met
  let off = middle(hit[4 * met], hit[4 * met + 1], hit[4 * met + 2])
  for (let k = 0; deep > 0 && k < side * side; k++) {
    if (hit[4 * k + 3] !== hit[4 * met + 3] || Math.abs(depth[k] - depth[met]) > deep) continue
    const d = middle(hit[4 * k], hit[4 * k + 1], hit[4 * k + 2])
    if (d < off) [off, best] = [d, k]
  }
  return best
}
