/**
 * Order in which every half of an implicit balanced tree is split at the median of the longer side of its centres.
 * Boxes overlap less than along a Z curve, where a node may straddle a jump of the curve. Quickselect (Hoare 1961).
 * `start(l)`: first place of leaf l of `width` leaves (a power of two).
 */
export function medianOrder(centres: Float32Array, width: number, start: (leaf: number) => number): Uint32Array {
  const n = centres.length / 3
  const order = new Uint32Array(n)
  for (let i = 0; i < n; i++) order[i] = i
  const key = new Float32Array(n)
  const split = (from: number, leaves: number) => {
    if (leaves < 2) return
    const a = start(from)
    const b = start(from + leaves)
    if (b - a < 2) return
    const half = leaves / 2
    const middle = start(from + half)
    let axis = 0
    let widest = -1
    for (let k = 0; k < 3; k++) {
      let [low, high] = [Infinity, -Infinity]
      for (let i = a; i < b; i++) {
        const v = centres[3 * order[i] + k]
        if (v < low) low = v
        if (v > high) high = v
      }
      if (high - low > widest) {
        widest = high - low
        axis = k
      }
    }
    for (let i = a; i < b; i++) key[i] = centres[3 * order[i] + axis]
    select(key, order, a, b - 1, middle)
    split(from, half)
    split(from + half, half)
  }
  split(0, width)
  return order
}

/** Partly sorts places a..b by key so that place k holds what it would hold when sorted. */
function select(key: Float32Array, order: Uint32Array, a: number, b: number, k: number): void {
  while (b > a) {
    const pivot = median(key[a], key[(a + b) >> 1], key[b])
    let i = a
    let j = b
    while (i <= j) {
      while (key[i] < pivot) i++
      while (key[j] > pivot) j--
      if (i <= j) {
        const t = key[i]
        key[i] = key[j]
        key[j] = t
        const o = order[i]
        order[i] = order[j]
        order[j] = o
        i++
        j--
      }
    }
    if (k <= j) b = j
    else if (k >= i) a = i
    else return
  }
}

const median = (a: number, b: number, c: number) => Math.max(Math.min(a, b), Math.min(Math.max(a, b), c))
