import { unionFind } from '../base/unionfind.ts'
import type { Matches } from './match.ts'

/** So many partners a pass has at least where there are that many, in its own setup and in others. Six and six: 200 passes no nearer the truth, a quarter slower. */
export const PARTNERS = 4

/**
 * Which pairs of passes are compared: each pass with those it shares most surface with, `most` of its own setup and `most` of others, and beside them a spanning tree of the
 * strongest pairs (Kruskal 1956), so that no chain is cut. All pairs of 200 passes would be 20,000, and say nothing that these do not.
 *
 * Returns n x n flags, symmetric.
 */
export function choosePartners(n: number, matches: Matches[], setups: ArrayLike<number>, most = PARTNERS): Uint8Array {
  const shared = new Float64Array(n * n)
  for (const m of matches) {
    shared[m.a * n + m.b] += m.count
    shared[m.b * n + m.a] += m.count
  }
  const wanted = new Uint8Array(n * n)
  const join = (a: number, b: number) => {
    wanted[a * n + b] = wanted[b * n + a] = 1
  }
  for (let a = 0; a < n; a++)
    for (const same of [true, false]) {
      const others: number[] = []
      for (let b = 0; b < n; b++) if (b !== a && shared[a * n + b] > 0 && (setups[a] === setups[b]) === same) others.push(b)
      others.sort((b, c) => shared[a * n + c] - shared[a * n + b])
      for (const b of others.slice(0, most)) join(a, b)
    }
  const pairs: [number, number][] = []
  for (let a = 0; a < n; a++) for (let b = 0; b < a; b++) if (shared[a * n + b] > 0) pairs.push([a, b])
  pairs.sort(([a, b], [c, d]) => shared[c * n + d] - shared[a * n + b])
  const tied = unionFind(n)
  for (const [a, b] of pairs) {
    if (tied.find(a) === tied.find(b)) continue
    tied.join(a, b)
    join(a, b)
  }
  return wanted
}

/**
 * An order in which partners stand close to one another, so that the equations keep their zeros (reverse Cuthill-McKee; George 1971): passes from the last to the first
 * of a walk in breadth, poorest in partners first.
 */
export function narrowOrder(n: number, wanted: Uint8Array): Int32Array {
  const degree = new Int32Array(n)
  for (let a = 0; a < n; a++) for (let b = 0; b < n; b++) degree[a] += wanted[a * n + b]
  const order: number[] = []
  const seen = new Uint8Array(n)
  const byDegree = (a: number, b: number) => degree[a] - degree[b] || a - b
  for (const start of [...degree.keys()].sort(byDegree)) {
    if (seen[start]) continue
    seen[start] = 1
    order.push(start)
    for (let k = order.length - 1; k < order.length; k++) {
      const next: number[] = []
      for (let b = 0; b < n; b++) if (wanted[order[k] * n + b] && !seen[b]) next.push(b)
      for (const b of next.sort(byDegree)) {
        seen[b] = 1
        order.push(b)
      }
    }
  }
  return Int32Array.from(order.reverse())
}
