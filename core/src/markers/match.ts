import { invertRigid, type Mat4 } from '../base/mat4.ts'
import { lowerBound, nearestKnown, type Constellation } from './constellation.ts'
import { framePose, posesOfTriangles } from './framepose.ts'
import { invertSymmetric3, quadratic3 } from './sight.ts'

export interface Seen {
  /** 3n mm, scanner coordinates */
  xyz: ArrayLike<number>
  /** n mm, 0 where it is not known */
  diameters?: ArrayLike<number>
  /** 6n: information of each place for a noise of 1 (sight.ts) */
  info: Float64Array
  /** the noise: standard deviation in the unit of the information */
  noise: number
}

export interface MatchOptions {
  /** expected number of chance matches as good as this one that is still accepted. Default 1e-7 */
  chance?: number
  /** by how many markers the best match must beat every other place. Default 2 */
  margin?: number
  /** share of the frame's markers that must be known. Default: more than a half */
  share?: number
  /** take every edge and every third marker: finds places at which four fit. Default false; for single comparisons, not for frames */
  thorough?: boolean
  /** deviations by which a distance may be off to begin a search with. Default 4; less where many agree and the noise is large */
  deviations?: number
  /** places looked at before a layout is called ambiguous. Default 400: regular grids make thousands */
  mostHypotheses?: number
}

export type MatchOutcome =
  | { kind: 'found'; pose: Mat4; pairs: Int32Array; count: number; rms: number; chance: number }
  | { kind: 'refused'; why: 'too-few' | 'on-a-line' | 'no-match' | 'ambiguous' | 'too-few-known'; count: number }

/** normalised distance, three freedoms: 99.99 % of true pairs are within */
const GATE = 4.6
/** diameters that differ by more belong to two markers, mm */
const SIZE_GATE = 1
/** markers less far than this from one line do not tell a turn, mm */
const LINE = 6

interface Hypothesis {
  pose: Mat4
  pairs: Int32Array
  count: number
  rms: number
}

/**
 * Finds where a frame belongs, without knowing anything of the frame before: edges of the frame against the list of known
 * distances, a third marker by two more distances, then a pose and a count of all that fits. Edges are taken that share no
 * marker, so that after one round every place at which more than half of the frame fits has been found (pigeonhole), and sooner every place
 * that could rival the best; what is accepted has been compared with every rival. Accepted is only what chance would not make (a contrario, Desolneux, Moisan and Morel
 * 2000: expected number of matches as good in unrelated markers), what beats every other place by two markers, and what
 * shows the front of the markers. Refused otherwise, with the reason.
 * Tried: two rounds of edges without an early end, 2.2 ms in a map of 500 markers and 14 ms for frames of 37, where it now takes 0.3 and 0.6.
 */
export function matchConstellation(c: Constellation, seen: Seen, o: MatchOptions = {}): MatchOutcome {
  const n = seen.xyz.length / 3
  if (n < 4) return { kind: 'refused', why: n >= 3 && c.sigma.length === 3 ? 'ambiguous' : 'too-few', count: n }
  if (onALine(seen.xyz, null)) return { kind: 'refused', why: 'on-a-line', count: n }
  const margin = o.margin ?? 2
  const { hypotheses, exhausted } = search(c, seen, margin, o)
  let best: Hypothesis | undefined
  for (const h of hypotheses) if (!best || h.count > best.count || (h.count === best.count && h.rms < best.rms)) best = h
  if (!best || best.count < 4) return { kind: 'refused', why: exhausted ? 'ambiguous' : 'no-match', count: best?.count ?? 0 }
  // one more than half where edges were chosen: what the pigeonhole promises
  if (best.count <= (o.share ?? 0.5) * n || (n > 8 && !o.thorough && best.count < (n >> 1) + 2))
    return { kind: 'refused', why: 'too-few-known', count: best.count }
  for (const h of hypotheses) if (h !== best && best.count - h.count < margin) return { kind: 'refused', why: 'ambiguous', count: best.count }
  if (exhausted) return { kind: 'refused', why: 'ambiguous', count: best.count }
  if (onALine(seen.xyz, best.pairs)) return { kind: 'refused', why: 'on-a-line', count: best.count }
  const chance = chanceOf(c, seen, best)
  if (chance > (o.chance ?? 1e-7)) return { kind: 'refused', why: 'too-few-known', count: best.count }
  return { kind: 'found', ...best, chance }
}

/** Every distinct place at which four or more of what is seen fit; thorough. For finding groups that look alike. */
export const placesOf = (c: Constellation, seen: Seen): { pairs: Int32Array; count: number }[] =>
  search(c, seen, -Infinity, { thorough: true, mostHypotheses: 2000 }).hypotheses

/** Every distinct place at which enough of the frame fits. */
function search(c: Constellation, seen: Seen, margin: number, o: MatchOptions): { hypotheses: Hypothesis[]; exhausted: boolean } {
  const { xyz, info, noise } = seen
  const n = xyz.length / 3
  const count = c.sigma.length
  const cov = new Float64Array(6 * n)
  for (let i = 0; i < n; i++) invertSymmetric3(info, cov, 6 * i, 6 * i)
  const mapSigma = c.usual
  // distances of the frame, and how far each may be off: uncertainty of both ends along it, four deviations
  const dist = new Float64Array(n * n)
  const tolerance = new Float64Array(n * n)
  for (let i = 0; i < n; i++)
    for (let j = 0; j < i; j++) {
      const x = xyz[3 * i] - xyz[3 * j]
      const y = xyz[3 * i + 1] - xyz[3 * j + 1]
      const z = xyz[3 * i + 2] - xyz[3 * j + 2]
      const d = Math.sqrt(x * x + y * y + z * z)
      const v = (quadratic3(cov, x, y, z, 6 * i) + quadratic3(cov, x, y, z, 6 * j)) / Math.max(1e-12, d * d)
      dist[i * n + j] = dist[j * n + i] = d
      tolerance[i * n + j] = tolerance[j * n + i] = (o.deviations ?? 4) * Math.sqrt(noise * noise * v + 2 * mapSigma * mapSigma) + 1e-6
    }
  const same = (i: number, m: number) => !seen.diameters?.[i] || !c.diameters[m] || Math.abs(seen.diameters[i] - c.diameters[m]) < SIZE_GATE
  const found: Hypothesis[] = []
  const known = new Set<string>()
  let tried = 0
  let best = 0
  const propose = (a: number, p: number, b: number, q: number, third: number, m: number) => {
    // already covered by a hypothesis that holds these three
    for (const h of found) if (h.pairs[a] === p && h.pairs[b] === q && h.pairs[third] === m) return
    tried++
    const start = posesOfTriangles(c.positions, p, q, m, xyz, a, b, third)
    if (!start) return
    const h = verify(c, seen, cov, start, same)
    if (!h || h.count < 4) return
    const key = h.pairs.join()
    if (known.has(key)) return
    known.add(key)
    found.push(h)
    best = Math.max(best, h.count)
  }
  const every = n <= 8 || o.thorough === true
  const thirds = every ? n : Math.max(4, Math.ceil(n / 2) + 1)
  let exhausted = false
  let edge = 0
  for (const [a, b] of edges(n, every)) {
    // every rival that matters misses at most so many markers, and one of so many edges that share none is whole in it
    if (!every && best > 0 && edge > n - best + margin) break
    edge++
    const d = dist[a * n + b]
    const tol = tolerance[a * n + b]
    let k = lowerBound(c.length, d - tol, 0, c.length.length)
    for (; k < c.length.length && c.length[k] <= d + tol; k++)
      for (let side = 0; side < 2; side++) {
        const p = side ? c.second[k] : c.first[k]
        const q = side ? c.first[k] : c.second[k]
        if (!same(a, p) || !same(b, q)) continue
        for (let t = 0, third = -1; t < thirds; t++) {
          third++
          while (third === a || third === b) third++
          if (third >= n) break
          const da = dist[a * n + third]
          const db = dist[b * n + third]
          const ta = tolerance[a * n + third]
          const tb = tolerance[b * n + third]
          const end = c.start[p + 1]
          for (let e = lowerBound(c.distance, da - ta, c.start[p], end); e < end && c.distance[e] <= da + ta; e++) {
            const m = c.neighbour[e]
            if (m === q || Math.abs(c.between[q * count + m] - db) > tb || !same(third, m)) continue
            propose(a, p, b, q, third, m)
            // two places at which all fits: nothing can beat both
            if (tried > (o.mostHypotheses ?? 400) || found.filter((h) => h.count > n - margin).length > 1) {
              exhausted = true
              return { hypotheses: found, exhausted }
            }
          }
        }
      }
  }
  return { hypotheses: found, exhausted }
}

/**
 * Edges of the frame: for few markers all of them, else one round of a round-robin schedule, whose edges share no marker. A place at
 * which n/2 + 2 markers fit has both ends of one of them among its markers.
 */
function* edges(n: number, every: boolean): Generator<[number, number]> {
  const even = n + (n & 1)
  const rounds = every ? even - 1 : 1
  for (let r = 0; r < rounds; r++)
    for (let i = 0; i < even / 2; i++) {
      const a = i === 0 ? even - 1 : (r + i) % (even - 1)
      const b = (r - i + even - 1) % (even - 1)
      if (a < n && b < n) yield [Math.min(a, b), Math.max(a, b)]
    }
}

/** Improves a pose by all that fits it, and counts; undefined when it shows the markers from behind. */
function verify(c: Constellation, seen: Seen, cov: Float64Array, start: Mat4, same: (i: number, m: number) => boolean): Hypothesis | undefined {
  const n = seen.xyz.length / 3
  let pose = start
  const pairs = new Int32Array(n)
  let count = 0
  let rms = 0
  // a triangle of three neighbours tells a turn poorly: what is further away is let in step by step
  for (let round = 0; round < 3; round++) {
    const wide = [6, 2, 1][round]
    const back = invertRigid(pose)
    count = 0
    let ss = 0
    for (let i = 0; i < n; i++) {
      pairs[i] = -1
      const [x, y, z] = [seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2]]
      const mx = back[0] * x + back[1] * y + back[2] * z + back[3]
      const my = back[4] * x + back[5] * y + back[6] * z + back[7]
      const mz = back[8] * x + back[9] * y + back[10] * z + back[11]
      const spread = Math.sqrt(cov[6 * i] + cov[6 * i + 3] + cov[6 * i + 5]) * seen.noise
      const m = nearestKnown(c, mx, my, mz, Math.min(10, wide * GATE * Math.hypot(spread, c.usual)))
      if (m < 0 || !same(i, m)) continue
      const o = 3 * m
      const dx = x - (pose[0] * c.positions[o] + pose[1] * c.positions[o + 1] + pose[2] * c.positions[o + 2] + pose[3])
      const dy = y - (pose[4] * c.positions[o] + pose[5] * c.positions[o + 1] + pose[6] * c.positions[o + 2] + pose[7])
      const dz = z - (pose[8] * c.positions[o] + pose[9] * c.positions[o + 1] + pose[10] * c.positions[o + 2] + pose[11])
      // the uncertainty of the map blunts the information of the sighting
      const d = Math.sqrt(quadratic3(seen.info, dx, dy, dz, 6 * i)) / Math.hypot(seen.noise, c.sigma[m] * Math.sqrt(largest(seen.info, 6 * i)))
      if (d > wide * GATE) continue
      if (facesAway(c, m, pose, x, y, z)) continue
      pairs[i] = m
      count++
      ss += dx * dx + dy * dy + dz * dz
    }
    if (count < 3) return undefined
    rms = Math.sqrt(ss / count)
    if (round < 2) {
      const better = framePose(c.positions, seen.xyz, seen.info, pairs, pose, 2)
      if (!better) return undefined
      pose = better.pose
    }
  }
  return twice(pairs) ? undefined : { pose, pairs, count, rms }
}

const largest = (a: Float64Array, o: number) => Math.max(a[o], a[o + 3], a[o + 5])

/** Markers have one face: seen from behind they cannot be. */
function facesAway(c: Constellation, m: number, pose: Mat4, x: number, y: number, z: number): boolean {
  const [a, b, d] = [c.normals[3 * m], c.normals[3 * m + 1], c.normals[3 * m + 2]]
  if (a === 0 && b === 0 && d === 0) return false
  const nx = pose[0] * a + pose[1] * b + pose[2] * d
  const ny = pose[4] * a + pose[5] * b + pose[6] * d
  const nz = pose[8] * a + pose[9] * b + pose[10] * d
  return nx * x + ny * y + nz * z > 0
}

function twice(pairs: Int32Array): boolean {
  for (let i = 0; i < pairs.length; i++) if (pairs[i] >= 0 && pairs.indexOf(pairs[i], i + 1) > 0) return true
  return false
}

/** All places (those with a pair) less than LINE mm from one line. */
function onALine(xyz: ArrayLike<number>, pairs: Int32Array | null): boolean {
  const n = xyz.length / 3
  let [a, b, far] = [-1, -1, 0]
  const used: number[] = []
  for (let i = 0; i < n; i++) if (!pairs || pairs[i] >= 0) used.push(i)
  for (const i of used) {
    const d = Math.hypot(xyz[3 * i] - xyz[3 * used[0]], xyz[3 * i + 1] - xyz[3 * used[0] + 1], xyz[3 * i + 2] - xyz[3 * used[0] + 2])
    if (d > far) [a, b, far] = [used[0], i, d]
  }
  if (a < 0) return true
  const u = [0, 1, 2].map((k) => (xyz[3 * b + k] - xyz[3 * a + k]) / far)
  return used.every((i) => {
    const v = [0, 1, 2].map((k) => xyz[3 * i + k] - xyz[3 * a + k])
    const along = v[0] * u[0] + v[1] * u[1] + v[2] * u[2]
    return Math.hypot(v[0] - along * u[0], v[1] - along * u[1], v[2] - along * u[2]) < LINE
  })
}

/**
 * Expected number of matches with as many markers among unrelated ones: how many triangles could be compared, times the chance that three
 * distances agree, times that of the others falling on a known marker. The area, not the volume, is what markers are spread over: they
 * often lie on one plane, and the chance must not be belittled.
 */
function chanceOf(c: Constellation, seen: Seen, h: Hypothesis): number {
  const n = h.pairs.length
  const k = h.count
  const cov = new Float64Array(6)
  let gate = 0
  let longest = 0
  for (let i = 0; i < n; i++) {
    if (h.pairs[i] < 0) continue
    invertSymmetric3(seen.info, cov, 6 * i)
    // the mean of the two best directions: the area of the ellipse that faces the scanner
    gate = Math.max(gate, GATE * (seen.noise * Math.sqrt(Math.min(cov[0], cov[3])) + c.sigma[h.pairs[i]]))
    for (let j = 0; j < i; j++)
      if (h.pairs[j] >= 0)
        longest = Math.max(
          longest,
          Math.hypot(seen.xyz[3 * i] - seen.xyz[3 * j], seen.xyz[3 * i + 1] - seen.xyz[3 * j + 1], seen.xyz[3 * i + 2] - seen.xyz[3 * j + 2]),
        )
  }
  const total = c.sigma.length
  // markers around one marker, within the extent of what matched
  let around = 0
  for (let m = 0; m < total; m++) {
    const end = c.start[m + 1]
    around = Math.max(around, lowerBound(c.distance, longest, c.start[m], end) - c.start[m])
  }
  const p = Math.min(1, (around * Math.PI * gate * gate) / (Math.PI * longest * longest))
  const agree = Math.min(1, (4 * gate) / longest) ** 3
  const triangles = ((n * (n - 1) * (n - 2)) / 6) * total * around * around
  let choose = 1
  for (let i = 0; i < k - 3; i++) choose *= (n - 3 - i) / (i + 1)
  return triangles * agree * choose * p ** (k - 3)
}
