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
/** Points that are kept of those whose middles lie in one pixel: those nearest to the eye. */
const LAYERS = 4
/** numbers of a point: right and down of the pointer px, away mm, half its size px, how far its neighbours lie mm, x y z in the job, object */
const PER = 9

/**
 * Draws clouds into the window, point by point, each as large as on the screen, so that what lies behind is covered. Points that stand alone are left out where
 * there are others: strays float before the surface, and of every point of a cloud there are many. `pause` is awaited about every 6 ms: 20 million points take
 * a tenth of a second, in which the page goes on answering.
 */
export async function drawClouds(window: Window, clouds: readonly Cloud[], sight: Sight, pause: () => Promise<void>): Promise<void> {
  const { data, count, wide } = await gather(window.reach, clouds, sight, pause)
  const lone = standAlone(data, count, wide)
  const some = window.hit.some((v, i) => i % 4 === 3 && v >= 1)
  cover(window, data, count, (k) => !lone[k])
  if (!some && !window.hit.some((v, i) => i % 4 === 3 && v >= 1)) cover(window, data, count, () => true)
}

/** The points that can reach the window, those nearest to the eye of each pixel. count: of each pixel; wide: pixels in a row. */
async function gather(reach: number, clouds: readonly Cloud[], { x, y, w, h, pixels, near, size }: Sight, pause: () => Promise<void>) {
  const most = 6 * size
  const half = reach + Math.ceil(most / 2)
  const wide = 2 * half + 1
  const data = new Float64Array(PER * LAYERS * wide * wide)
  const count = new Uint8Array(wide * wide)
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
          if (dx >= half || dx <= -half) continue
          const dy = h / 2 - (e[1] * px + e[5] * py + e[9] * pz + e[13]) * scale - y
          if (dy >= half || dy <= -half) continue
          const pixel = (Math.round(dy) + half) * wide + Math.round(dx) + half
          const first = LAYERS * pixel
          // the furthest goes
          let k = count[pixel]
          if (k === LAYERS) {
            if (away >= data[PER * (first + k - 1) + 2]) continue
            k--
          } else count[pixel]++
          for (; k > 0 && data[PER * (first + k - 1) + 2] > away; k--) data.copyWithin(PER * (first + k), PER * (first + k - 1), PER * (first + k))
          const o = PER * (first + k)
          data[o] = dx
          data[o + 1] = dy
          data[o + 2] = away
          data[o + 3] = Math.max(size, Math.min(most, 1.5 * spacing * scale)) / 2
          data[o + 4] = 3 * Math.max(spacing, 1 / scale)
          data[o + 5] = j[0] * px + j[4] * py + j[8] * pz + j[12]
          data[o + 6] = j[1] * px + j[5] * py + j[9] * pz + j[13]
          data[o + 7] = j[2] * px + j[6] * py + j[10] * pz + j[14]
          data[o + 8] = object
        }
        if (performance.now() - began > 6) {
          await pause()
          began = performance.now()
        }
      }
  return { data, count, wide }
}

/** Which of the points have fewer than two others near them, or far fewer than is usual here. */
function standAlone(data: Float64Array, count: Uint8Array, wide: number): Uint8Array {
  const near = new Int32Array(LAYERS * count.length).fill(-1)
  const all: number[] = []
  for (let q = 0; q < count.length; q++)
    for (let k = 0; k < count[q]; k++) {
      const o = PER * (LAYERS * q + k)
      const r = data[o + 4]
      // half the size of a point is three quarters of the spacing, where it is not bounded by the least or the most
      const reach = Math.min(8, Math.max(3, Math.ceil(4 * data[o + 3])))
      const [row, column] = [Math.floor(q / wide), q % wide]
      let n = -1
      for (let a = Math.max(0, row - reach); a <= Math.min(wide - 1, row + reach); a++)
        for (let b = Math.max(0, column - reach); b <= Math.min(wide - 1, column + reach); b++)
          for (let l = 0; l < count[a * wide + b]; l++) {
            const p = PER * (LAYERS * (a * wide + b) + l)
            const [dx, dy, dz] = [data[p + 5] - data[o + 5], data[p + 6] - data[o + 6], data[p + 7] - data[o + 7]]
            if (dx * dx + dy * dy + dz * dz <= r * r) n++
          }
      near[LAYERS * q + k] = n
      all.push(n)
    }
  all.sort((a, b) => a - b)
  const least = Math.max(2, 0.2 * (all[all.length >> 1] ?? 0))
  return Uint8Array.from(near, (n) => (n < least ? 1 : 0))
}

/** Draws the points that count into the window. */
function cover({ reach, depth, hit }: Window, data: Float64Array, count: Uint8Array, counts: (k: number) => boolean): void {
  const side = 2 * reach + 1
  for (let q = 0; q < count.length; q++)
    for (let l = 0; l < count[q]; l++) {
      if (!counts(LAYERS * q + l)) continue
      const o = PER * (LAYERS * q + l)
      const [dx, dy, away, half] = data.subarray(o, o + 4)
      const [left, right] = [Math.max(0, Math.round(dx - half) + reach), Math.min(side - 1, Math.round(dx + half) + reach)]
      const [top, bottom] = [Math.max(0, Math.round(dy - half) + reach), Math.min(side - 1, Math.round(dy + half) + reach)]
      for (let r = top; r <= bottom; r++)
        for (let c = left; c <= right; c++) {
          const k = r * side + c
          if (away >= depth[k]) continue
          depth[k] = away
          hit.set(data.subarray(o + 5, o + 9), 4 * k)
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
