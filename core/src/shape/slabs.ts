import { f32 } from '../base/arrays.ts'
import { coreBox } from './points.ts'

/** A part of a cloud: its own points first, then those beside it. */
export interface Slab {
  xyz: Float32Array
  /** place of each point in the whole cloud; null when it is the whole */
  ids: Uint32Array | null
  own: number
}

const CLASSES = 1 << 14

/**
 * A cloud in slabs across its longest side, of about `most` points each, and with each of them what lies within `reach` (mm) of it: for work that looks no further, so that
 * memory goes by the slab. One after the other; a cloud that is small enough comes as it is.
 */
export function* slabs(xyz: Float32Array, most: number, reach: number): Generator<Slab> {
  const n = xyz.length / 3
  if (n <= most) {
    yield { xyz, ids: null, own: n }
    return
  }
  const box = coreBox(xyz)
  const side = [0, 1, 2].map((k) => box[3 + k] - box[k])
  const axis = side.indexOf(Math.max(...side))
  const low = box[axis]
  const scale = side[axis] > 0 ? (CLASSES - 1) / side[axis] : 0
  const count = new Uint32Array(CLASSES)
  for (let i = axis; i < xyz.length; i += 3) count[Math.max(0, Math.min(CLASSES - 1, Math.floor((xyz[i] - low) * scale)))]++
  let from = -Infinity
  let inside = 0
  for (let c = 0; c < CLASSES; c++) {
    inside += count[c]
    const last = c === CLASSES - 1
    if (!last && (inside === 0 || inside + count[c + 1] <= most)) continue
    const until = last ? Infinity : low + (c + 1) / scale
    yield cut(xyz, axis, from, until, reach)
    from = until
    inside = 0
  }
}

function cut(xyz: Float32Array, axis: number, from: number, until: number, reach: number): Slab {
  const [a, b] = [from - reach, until + reach]
  let own = 0
  let all = 0
  for (let i = axis; i < xyz.length; i += 3) {
    const v = xyz[i]
    if (v >= a && v < b) all++
    if (v >= from && v < until) own++
  }
  const ids = new Uint32Array(all)
  let [o, h] = [0, own]
  for (let i = axis; i < xyz.length; i += 3) {
    const v = xyz[i]
    if (v >= from && v < until) ids[o++] = (i - axis) / 3
    else if (v >= a && v < b) ids[h++] = (i - axis) / 3
  }
  const part = f32(3 * all)
  for (let k = 0; k < all; k++) for (let c = 0; c < 3; c++) part[3 * k + c] = xyz[3 * ids[k] + c]
  return { xyz: part, ids, own }
}
