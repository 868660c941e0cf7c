import { smallestEigen3 } from '../base/eigen.ts'
import { median } from '../base/stats.ts'

/** places of a frame that are looked at, and neighbours of each */
const PLACES = 60
const NEIGHBOURS = 14

/**
 * How far points of frames scatter across their surface, mm (1 sigma): the median, over places spread through them, of what the nearest neighbours leave beside their
 * least-squares plane. frames: 3N mm each. The surface's own curving within the nearest fourteen counts as scatter; neighbours that are spread along one line only tell less than there is.
 */
export function pointNoise(frames: readonly Float32Array[]): number {
  const found: number[] = []
  const near = new Float64Array(NEIGHBOURS)
  const who = new Int32Array(NEIGHBOURS)
  const e = new Float64Array(6)
  for (const xyz of frames) {
    const n = xyz.length / 3
    if (n < 3 * NEIGHBOURS) continue
    for (let p = 0; p < PLACES; p++) {
      const c = Math.floor(((p + 0.5) / PLACES) * n)
      nearest(xyz, c, near, who)
      const mean = [0, 0, 0]
      for (const i of who) for (let k = 0; k < 3; k++) mean[k] += xyz[3 * i + k] / NEIGHBOURS
      let [xx, xy, xz, yy, yz, zz] = [0, 0, 0, 0, 0, 0]
      for (const i of who) {
        const [x, y, z] = [xyz[3 * i] - mean[0], xyz[3 * i + 1] - mean[1], xyz[3 * i + 2] - mean[2]]
        xx += x * x
        xy += x * y
        xz += x * z
        yy += y * y
        yz += y * z
        zz += z * z
      }
      smallestEigen3(xx, xy, xz, yy, yz, zz, e)
      found.push(Math.sqrt(Math.max(0, e[3]) / (NEIGHBOURS - 3)))
    }
  }
  return Math.max(LEAST, found.length ? median(Float64Array.from(found)) : USUAL)
}
/** mm: nothing measures better than this; and where nothing tells */
const LEAST = 0.002
const USUAL = 0.05

/** The nearest ones, the point itself among them. */
function nearest(xyz: Float32Array, c: number, near: Float64Array, who: Int32Array): void {
  near.fill(Infinity)
  const [x, y, z] = [xyz[3 * c], xyz[3 * c + 1], xyz[3 * c + 2]]
  const last = near.length - 1
  for (let i = 0, n = xyz.length / 3; i < n; i++) {
    const d = (xyz[3 * i] - x) ** 2 + (xyz[3 * i + 1] - y) ** 2 + (xyz[3 * i + 2] - z) ** 2
    if (!(d < near[last])) continue
    let at = last
    while (at > 0 && near[at - 1] > d) {
      near[at] = near[at - 1]
      who[at] = who[at - 1]
      at--
    }
    near[at] = d
    who[at] = i
  }
}
