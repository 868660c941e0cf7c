/** Dots that lie in one grid: which of them, and their places in it (any corner may be the origin, any side the first axis). */
export interface Lattice {
  /** index of each dot in the list given */
  members: Int32Array
  /** column and row of each member, 2N; right-handed as seen in the image (x right, y down) */
  places: Int32Array
}

/**
 * Sorts dots into grids by growing from one dot to its neighbours with a step that is renewed at every dot: perspective and lens
 * distortion change it slowly, so that no model of either is needed. A missing dot is stepped over once. Largest grid first; grids
 * of fewer than 6 dots are left out.
 * centres: 2N px. shapes: 3N, the ellipse of each dot (see Dots): a circle seen at a slant says how the grid is slanted, so that a diagonal
 * is not taken for a side.
 */
export function findLattices(centres: ArrayLike<number>, shapes?: ArrayLike<number>): Lattice[] {
  const n = centres.length >> 1
  const owner = new Int32Array(n).fill(-1)
  const near = nearest(centres, n, 12)
  const out: Lattice[] = []
  for (const seed of seeds(centres, n)) {
    if (owner[seed] >= 0) continue
    const basis = basisAt(centres, near, seed, shapes ? Array.from({ length: 3 }, (_, k) => shapes[3 * seed + k]) : [1, 0, 1], shapes ? 1.5 : 1.95)
    if (!basis) continue
    const grid = grow(centres, n, seed, basis, owner, out.length)
    if (grid.members.length >= 6) out.push(grid)
    else for (const m of grid.members) owner[m] = -1
  }
  return out.sort((a, b) => b.members.length - a.members.length)
}

/** Dots from the middle of all outwards: seeds in the middle of a plate have neighbours on all sides. */
function seeds(c: ArrayLike<number>, n: number): Int32Array {
  let [mx, my] = [0, 0]
  for (let i = 0; i < n; i++) {
    mx += c[2 * i] / n
    my += c[2 * i + 1] / n
  }
  const d = Float64Array.from({ length: n }, (_, i) => Math.hypot(c[2 * i] - mx, c[2 * i + 1] - my))
  return Int32Array.from({ length: n }, (_, i) => i).sort((a, b) => d[a] - d[b])
}

function nearest(c: ArrayLike<number>, n: number, k: number): Int32Array[] {
  const d = new Float64Array(n)
  return Array.from({ length: n }, (_, i) => {
    const list: number[] = []
    for (let j = 0; j < n; j++) {
      if (j === i) continue
      d[j] = (c[2 * j] - c[2 * i]) ** 2 + (c[2 * j + 1] - c[2 * i + 1]) ** 2
      if (list.length < k || d[j] < d[list[list.length - 1]]) {
        let at = list.length
        while (at > 0 && d[list[at - 1]] > d[j]) at--
        list.splice(at, 0, j)
        if (list.length > k) list.pop()
      }
    }
    return Int32Array.from(list)
  })
}

/**
 * Two steps to neighbours that are there on both sides (to a quarter of the step), the second turned from the first as y from x. Lengths
 * and angles are taken as on the plate, where the dot is round.
 */
function basisAt(c: ArrayLike<number>, near: Int32Array[], i: number, [a, b, d]: number[], mostUnlike: number): [number, number, number, number] | undefined {
  const dot = (x: number, y: number, u: number, v: number) => a * x * u + b * (x * v + y * u) + d * y * v
  const list = near[i]
  const both: [number, number][] = []
  for (const j of list) {
    const x = c[2 * j] - c[2 * i]
    const y = c[2 * j + 1] - c[2 * i + 1]
    const l = Math.hypot(x, y)
    const opposite = list.some((k) => Math.hypot(c[2 * k] - c[2 * i] + x, c[2 * k + 1] - c[2 * i + 1] + y) < 0.25 * l)
    if (opposite) both.push([x, y])
  }
  both.sort((p, q) => dot(...p, ...p) - dot(...q, ...q))
  const first = both[0] as [number, number] | undefined
  if (!first) return undefined
  for (const second of both) {
    const cosine = dot(...first, ...second) / Math.sqrt(dot(...first, ...first) * dot(...second, ...second))
    // across a missing row the step is twice as long: another seed does better
    if (Math.abs(cosine) > 0.5 || dot(...second, ...second) > mostUnlike * mostUnlike * dot(...first, ...first)) continue
    const [x, y] = second
    return first[0] * y - first[1] * x > 0 ? [first[0], first[1], x, y] : [first[0], first[1], -x, -y]
  }
  return undefined
}

const SIDES = [
  [1, 0],
  [-1, 0],
  [0, 1],
  [0, -1],
] as const

function grow(c: ArrayLike<number>, n: number, seed: number, basis: [number, number, number, number], owner: Int32Array, label: number): Lattice {
  const at = new Map<number, number>()
  const key = (i: number, j: number) => (i + 2048) * 4096 + j + 2048
  const members: number[] = []
  const places: number[] = []
  const steps: [number, number, number, number][] = []
  const take = (dot: number, i: number, j: number, step: [number, number, number, number]) => {
    owner[dot] = label
    at.set(key(i, j), members.length)
    members.push(dot)
    places.push(i, j)
    steps.push(step)
  }
  take(seed, 0, 0, basis)
  const neighbours = (m: number, far: number) => {
    const [ax, ay, bx, by] = steps[m]
    const x = c[2 * members[m]]
    const y = c[2 * members[m] + 1]
    const reach = 0.28 * Math.min(Math.hypot(ax, ay), Math.hypot(bx, by))
    for (const [di, dj] of SIDES) {
      const i = places[2 * m] + far * di
      const j = places[2 * m + 1] + far * dj
      if (at.has(key(i, j)) || (far > 1 && at.has(key(i - di, j - dj)))) continue
      const px = x + far * (di * ax + dj * bx)
      const py = y + far * (di * ay + dj * by)
      let best = -1
      let bestD = (far * reach) ** 2
      for (let d = 0; d < n; d++) {
        if (owner[d] >= 0) continue
        const e = (c[2 * d] - px) ** 2 + (c[2 * d + 1] - py) ** 2
        if (e < bestD) {
          bestD = e
          best = d
        }
      }
      if (best < 0) continue
      const sx = (c[2 * best] - x) / far
      const sy = (c[2 * best + 1] - y) / far
      take(best, i, j, di ? [sx * di, sy * di, bx, by] : [ax, ay, sx * dj, sy * dj])
    }
  }
  for (let grown = 0; grown < members.length;) {
    for (; grown < members.length; grown++) neighbours(grown, 1)
    // over gaps only when there is no other way: a longer step is less certain
    for (let m = 0; m < members.length && grown === members.length; m++) neighbours(m, 2)
  }
  return { members: Int32Array.from(members), places: Int32Array.from(places) }
}
