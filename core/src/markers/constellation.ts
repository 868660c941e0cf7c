import { quantile } from '../base/stats.ts'

/** Known markers, made ready for finding where a frame belongs. */
export interface Constellation {
  /** 3N mm */
  positions: Float64Array
  diameters: Float64Array
  /** 3N, unit or zero */
  normals: Float64Array
  /** N: standard uncertainty of each, mm */
  sigma: Float64Array
  /** of four in five: a few poorly known markers must not widen the search for all, mm */
  usual: number
  /** distances up to reach, each pair once, ascending; and its two markers */
  length: Float64Array
  first: Uint16Array
  second: Uint16Array
  /** neighbours of each marker within reach by ascending distance: CSR */
  start: Int32Array
  neighbour: Uint16Array
  distance: Float64Array
  /** matrix of distances, N x N */
  between: Float32Array
  grid: { cell: number; origin: number[]; size: number[]; start: Int32Array; list: Uint16Array }
}

export interface ConstellationOptions {
  diameters?: ArrayLike<number>
  normals?: ArrayLike<number>
  /** mm. Default 0 */
  sigma?: ArrayLike<number>
  /** longest distance two markers of one frame can have, mm. Default: no limit */
  reach?: number
}

/** What is known, indexed by distances: up to some 2000 markers. positions: 3N mm. */
export function makeConstellation(positions: ArrayLike<number>, o: ConstellationOptions = {}): Constellation {
  const n = positions.length / 3
  const p = Float64Array.from(positions)
  const reach = o.reach ?? Infinity
  const between = new Float32Array(n * n)
  const counts = new Int32Array(n + 1)
  const pairs: number[] = []
  for (let i = 0; i < n; i++)
    for (let j = i + 1; j < n; j++) {
      const d = Math.hypot(p[3 * i] - p[3 * j], p[3 * i + 1] - p[3 * j + 1], p[3 * i + 2] - p[3 * j + 2])
      between[i * n + j] = between[j * n + i] = d
      if (d > reach) continue
      pairs.push(i * n + j)
      counts[i + 1]++
      counts[j + 1]++
    }
  pairs.sort((a, b) => between[a] - between[b])
  const start = counts
  for (let i = 0; i < n; i++) start[i + 1] += start[i]
  const at = start.slice()
  const neighbour = new Uint16Array(2 * pairs.length)
  const distance = new Float64Array(2 * pairs.length)
  const first = new Uint16Array(pairs.length)
  const second = new Uint16Array(pairs.length)
  const length = new Float64Array(pairs.length)
  pairs.forEach((key, k) => {
    const i = Math.floor(key / n)
    const j = key % n
    first[k] = i
    second[k] = j
    length[k] = between[key]
    neighbour[at[i]] = j
    distance[at[i]++] = length[k]
    neighbour[at[j]] = i
    distance[at[j]++] = length[k]
  })
  return {
    positions: p,
    diameters: o.diameters ? Float64Array.from(o.diameters) : new Float64Array(n),
    normals: o.normals ? Float64Array.from(o.normals) : new Float64Array(3 * n),
    sigma: o.sigma ? Float64Array.from(o.sigma) : new Float64Array(n),
    usual: o.sigma && n > 0 ? quantile(o.sigma, 0.8) : 0,
    length,
    first,
    second,
    start,
    neighbour,
    distance,
    between,
    grid: makeGrid(p, n),
  }
}

function makeGrid(p: Float64Array, n: number): Constellation['grid'] {
  const origin = [Infinity, Infinity, Infinity]
  const end = [-Infinity, -Infinity, -Infinity]
  for (let i = 0; i < 3 * n; i++) {
    origin[i % 3] = Math.min(origin[i % 3], p[i])
    end[i % 3] = Math.max(end[i % 3], p[i])
  }
  const span = n ? Math.max(1, ...end.map((v, k) => v - origin[k])) : 1
  const cell = Math.max(10, span / 40)
  const size = n ? end.map((v, k) => Math.floor((v - origin[k]) / cell) + 1) : [1, 1, 1]
  const start = new Int32Array(size[0] * size[1] * size[2] + 1)
  const key = (i: number) =>
    (Math.floor((p[3 * i + 2] - origin[2]) / cell) * size[1] + Math.floor((p[3 * i + 1] - origin[1]) / cell)) * size[0] +
    Math.floor((p[3 * i] - origin[0]) / cell)
  for (let i = 0; i < n; i++) start[key(i) + 1]++
  for (let i = 0; i < start.length - 1; i++) start[i + 1] += start[i]
  const at = start.slice()
  const list = new Uint16Array(n)
  for (let i = 0; i < n; i++) list[at[key(i)]++] = i
  return { cell, origin, size, start, list }
}

/** Nearest known marker within r mm (r at most one cell) of a place, -1 for none. */
export function nearestKnown(c: Constellation, x: number, y: number, z: number, r: number): number {
  const { cell, origin, size, start, list } = c.grid
  let best = -1
  let most = r * r
  const lo = [x, y, z].map((v, k) => Math.max(0, Math.floor((v - r - origin[k]) / cell)))
  const hi = [x, y, z].map((v, k) => Math.min(size[k] - 1, Math.floor((v + r - origin[k]) / cell)))
  for (let k = lo[2]; k <= hi[2]; k++)
    for (let j = lo[1]; j <= hi[1]; j++)
      for (let i = lo[0]; i <= hi[0]; i++) {
        const b = (k * size[1] + j) * size[0] + i
        for (let e = start[b]; e < start[b + 1]; e++) {
          const m = list[e]
          const d = (c.positions[3 * m] - x) ** 2 + (c.positions[3 * m + 1] - y) ** 2 + (c.positions[3 * m + 2] - z) ** 2
          if (d <= most) {
            most = d
            best = m
          }
        }
      }
  return best
}

/** First place in ascending a, from from to to, that is not below v. */
export function lowerBound(a: Float64Array, v: number, from: number, to: number): number {
  while (from < to) {
    const m = (from + to) >> 1
    if (a[m] < v) from = m + 1
    else to = m
  }
  return from
}
