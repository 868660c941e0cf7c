import { makeConstellation } from './constellation.ts'
import { placesOf } from './match.ts'

/** Two groups of markers with the same distances: a scanner that sees only one of them cannot tell which. */
export interface LookAlike {
  /** indices, in the order in which they correspond */
  one: number[]
  other: number[]
}

export interface LookAlikeOptions {
  /** distances that differ by less look the same, mm. Default 0.3: what a scanner at its far end tells apart */
  tolerance?: number
  /** markers in a group: as many as a poor view shows. Default 6 */
  group?: number
  /** mm: how far apart two markers of one view can be. Default 250 */
  reach?: number
}

/**
 * Groups of neighbouring markers that fit onto others: each marker with its nearest neighbours is looked up in all of them, as a frame would be.
 * Four that agree are enough to be named: four in view keep tracking alive (common practice, no source).
 */
export function findLookAlikes(positions: ArrayLike<number>, diameters: ArrayLike<number>, o: LookAlikeOptions = {}): LookAlike[] {
  const n = diameters.length
  const tolerance = o.tolerance ?? 0.3
  const size = o.group ?? 6
  // the tolerance of a distance is four deviations of both ends
  const noise = tolerance / (4 * Math.SQRT2)
  const c = makeConstellation(positions, { diameters, reach: 2 * (o.reach ?? 250) })
  const out: LookAlike[] = []
  const known = new Set<string>()
  for (let i = 0; i < n; i++) {
    const near: number[] = [i]
    for (let k = c.start[i]; k < c.start[i + 1] && near.length < size && c.distance[k] <= (o.reach ?? 250); k++) near.push(c.neighbour[k])
    if (near.length < 4) continue
    const info = new Float64Array(6 * near.length)
    near.forEach((_, k) => [0, 3, 5].forEach((q) => (info[6 * k + q] = 1)))
    const seen = { xyz: near.flatMap((m) => [0, 1, 2].map((k) => positions[3 * m + k])), diameters: near.map((m) => diameters[m]), info, noise }
    for (const { pairs } of placesOf(c, seen)) {
      const used = near.flatMap((m, k) => (pairs[k] >= 0 ? [{ m, as: pairs[k] }] : []))
      // itself; and a group that shares most of its markers with itself, turned, is a symmetric one: named as well
      if (used.length < 4 || used.filter((u) => u.m === u.as).length > used.length - 3) continue
      const key = [
        used
          .map((u) => u.m)
          .sort((a, b) => a - b)
          .join(),
        used
          .map((u) => u.as)
          .sort((a, b) => a - b)
          .join(),
      ]
        .sort()
        .join('|')
      if (known.has(key)) continue
      known.add(key)
      out.push({ one: used.map((u) => u.m), other: used.map((u) => u.as) })
    }
  }
  // larger groups first; parts of a group that was named already go
  out.sort((a, b) => b.one.length - a.one.length)
  const within = (a: number[], b: number[]) => a.every((m) => b.includes(m))
  return out.filter(
    (g, i) => !out.slice(0, i).some((h) => (within(g.one, h.one) && within(g.other, h.other)) || (within(g.one, h.other) && within(g.other, h.one))),
  )
}
