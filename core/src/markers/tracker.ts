import { identity, invertRigid, multiply, type Mat4 } from '../base/mat4.ts'
import { makeConstellation, nearestKnown, type Constellation } from './constellation.ts'
import { matchConstellation } from './match.ts'
import { differ, followMarkers, SAME_PLACE, sighted, type Sighted } from './follow.ts'
import type { MarkerFrame, SightModel } from './sight.ts'

export interface TrackerOptions {
  sight: SightModel
  /** noise of the sightings in the unit of the sight model (px for cameras). Default 0.03; solving finds the true one */
  noise?: number
  /** longest distance two markers of one frame can have, mm. Default 600 */
  reach?: number
  /** a map made before: these are known from the start */
  known?: { positions: ArrayLike<number>; diameters: ArrayLike<number>; normals?: ArrayLike<number>; sigma?: ArrayLike<number> }
}

/** What one frame gave. */
export interface Tracked {
  state: 'first' | 'tracked' | 'regained' | 'lost' | 'few'
  /** map to scanner; the last good one when lost */
  pose: Mat4
  /** marker for each one seen, -1 for none */
  pairs: Int32Array
  /** markers whose place fits */
  fits: number
  /** why nothing fits, in the words of the match */
  why?: string
}

interface Known {
  x: number
  y: number
  z: number
  sigma: number
  diameter: number
  sightings: number
  /** sum of unit directions to the scanner */
  nx: number
  ny: number
  nz: number
  /** directions from which it was seen, more than 8 degrees apart, at most a dozen: 3 a direction */
  seenFrom: number[]
  /** turned out to be another one, by its number */
  same: number | null
}

interface Candidate {
  x: number
  y: number
  z: number
  sigma: number
  diameter: number
  count: number
  last: number
  sightings: { frame: number; place: number }[]
}

export interface KeptFrame {
  time: number
  pose: Mat4
  xyz: Float32Array
  diameters: Float32Array
  pairs: Int32Array
}

/** a thing that is none does not show up at one place from moving views: so many frames must agree before a marker is taken as one */
const PROMOTE = 4
/** a marker is looked for within so many mm of where the frame before says it is: near first, so that false ones seldom get in; then less than half of the spacing people keep */
const GATES = [4, 15]
const MOST_KEPT = 600

/**
 * Follows the scanner by markers and collects what solving needs: each frame is placed by the frame before, or from nothing by its
 * constellation; what is new becomes a marker when several frames agree on its place. A frame that cannot be placed with certainty
 * changes nothing. All state is in here; feed() costs well under a millisecond.
 */
export function makeTracker(o: TrackerOptions) {
  const noise = o.noise ?? 0.03
  const reach = o.reach ?? 600
  const known: Known[] = []
  let candidates: Candidate[] = []
  let kept: KeptFrame[] = []
  /** of each kept frame: it shows only that time went by */
  let still: boolean[] = []
  let constellation: Constellation | undefined
  /** numbers of the markers in the constellation: those that were united with others are not in it */
  let live: number[] = []
  let pose: Mat4 = identity()
  let motion: Mat4 = identity()
  let tracking = false
  let frames = 0
  let lostFrames = 0
  let sinceKept = { time: -Infinity, pose: identity() }
  let thin = 1
  let slow = 1
  const given = o.known
  if (given)
    for (let i = 0; i < given.diameters.length; i++)
      known.push({
        x: given.positions[3 * i],
        y: given.positions[3 * i + 1],
        z: given.positions[3 * i + 2],
        sigma: given.sigma?.[i] || 0.01,
        diameter: given.diameters[i],
        sightings: 0,
        nx: given.normals?.[3 * i] ?? 0,
        ny: given.normals?.[3 * i + 1] ?? 0,
        nz: given.normals?.[3 * i + 2] ?? 0,
        seenFrom: [],
        same: null,
      })

  const index = (): Constellation => {
    if (constellation) return constellation
    live = known.flatMap((k, n) => (k.same === null ? [n] : []))
    const list = live.map((n) => known[n])
    constellation = makeConstellation(
      list.flatMap((k) => [k.x, k.y, k.z]),
      {
        diameters: list.map((k) => k.diameter),
        normals: list.flatMap((k) => {
          const l = Math.hypot(k.nx, k.ny, k.nz) || 1
          return [k.nx / l, k.ny / l, k.nz / l]
        }),
        sigma: list.map((k) => k.sigma),
        reach,
      },
    )
    return constellation
  }

  const numbered = (pairs: Int32Array) => pairs.map((m) => (m < 0 ? -1 : live[m]))

  const follow = (guess: Mat4, seen: Sighted, first: number) => {
    const f = followMarkers(index(), noise, guess, seen, first)
    return f && { ...f, pairs: numbered(f.pairs) }
  }

  const addKnown = (x: number, y: number, z: number, sigma: number, diameter: number): number => {
    constellation = undefined
    return known.push({ x, y, z, sigma, diameter, sightings: 0, nx: 0, ny: 0, nz: 0, seenFrom: [], same: null }) - 1
  }

  /** Why a frame is worth keeping: it shows something new, or only that time went by; not at all. */
  const worthKeeping = (time: number, p: Mat4, fresh: boolean): 'new' | 'still' | null => {
    if (fresh || kept.length < 5) return 'new'
    const d = multiply(p, invertRigid(sinceKept.pose))
    const turn = Math.acos(Math.min(1, Math.max(-1, (d[0] + d[5] + d[10] - 1) / 2)))
    const shift = Math.hypot(p[3] - sinceKept.pose[3], p[7] - sinceKept.pose[7], p[11] - sinceKept.pose[11])
    return turn > 0.02 * thin || shift > 6 * thin ? 'new' : time - sinceKept.time > 400 * slow ? 'still' : null
  }

  const place = (back: Mat4, xyz: ArrayLike<number>, i: number): [number, number, number] => {
    const [x, y, z] = [xyz[3 * i], xyz[3 * i + 1], xyz[3 * i + 2]]
    return [
      back[0] * x + back[1] * y + back[2] * z + back[3],
      back[4] * x + back[5] * y + back[6] * z + back[7],
      back[8] * x + back[9] * y + back[10] * z + back[11],
    ]
  }

  const collect = (seen: MarkerFrame, at: Mat4, pairs: Int32Array, cov: Float64Array) => {
    const back = invertRigid(at)
    const n = seen.diameters.length
    let fresh = false
    const eye = [back[3], back[7], back[11]]
    for (let i = 0; i < n; i++) {
      const [x, y, z] = place(back, seen.xyz, i)
      const sigma = noise * Math.sqrt(cov[6 * i] + cov[6 * i + 3] + cov[6 * i + 5])
      if (pairs[i] < 0) {
        // a marker sits there already: the sighting is its own, however badly it fits; solving will tell
        const near = nearestKnown(index(), x, y, z, SAME_PLACE)
        const m = near < 0 ? -1 : live[near]
        if (m >= 0 && !pairs.includes(m) && !differ(seen.diameters[i], known[m].diameter)) pairs[i] = m
      }
      if (pairs[i] < 0) {
        let c = candidates.find((q) => Math.hypot(q.x - x, q.y - y, q.z - z) < Math.max(0.5, 6 * Math.hypot(sigma, q.sigma)))
        if (!c) candidates.push((c = { x, y, z, sigma, diameter: seen.diameters[i], count: 0, last: frames, sightings: [] }))
        c.count++
        c.last = frames
        const w = 1 / c.count
        c.x += w * (x - c.x)
        c.y += w * (y - c.y)
        c.z += w * (z - c.z)
        c.diameter += w * (seen.diameters[i] - c.diameter)
        c.sightings.push({ frame: kept.length, place: i })
        if (c.count < PROMOTE) continue
        const m = addKnown(c.x, c.y, c.z, sigma / Math.sqrt(c.count), c.diameter)
        for (const s of c.sightings) if (kept[s.frame]) kept[s.frame].pairs[s.place] = m
        candidates = candidates.filter((q) => q !== c)
        pairs[i] = m
        fresh = true
      }
      const k = known[pairs[i]]
      k.sightings++
      const v = [eye[0] - k.x, eye[1] - k.y, eye[2] - k.z]
      const l = Math.hypot(v[0], v[1], v[2]) || 1
      k.nx += v[0] / l
      k.ny += v[1] / l
      k.nz += v[2] / l
      if (k.seenFrom.length < 36) {
        let near = false
        for (let d = 0; d < k.seenFrom.length; d += 3) near ||= (k.seenFrom[d] * v[0] + k.seenFrom[d + 1] * v[1] + k.seenFrom[d + 2] * v[2]) / l > 0.99
        if (!near) k.seenFrom.push(v[0] / l, v[1] / l, v[2] / l)
      }
    }
    candidates = candidates.filter((q) => frames - q.last < 40)
    const why = worthKeeping(seen.time, at, fresh)
    if (!why) {
      // sightings of candidates in frames that are not kept are worth nothing later
      for (const c of candidates) c.sightings = c.sightings.filter((s) => s.frame < kept.length)
      return
    }
    kept.push({ time: seen.time, pose: at, xyz: seen.xyz.slice(), diameters: seen.diameters.slice(), pairs: pairs.slice() })
    still.push(why === 'still')
    sinceKept = { time: seen.time, pose: at }
    if (kept.length <= MOST_KEPT) return
    // a scanner that is laid down for a while must not push out what it saw before: what only shows that time went by goes first
    const idle = still.filter(Boolean).length > kept.length / 3
    let nth = 0
    const stays = kept.map((_, i) => (idle && !still[i] ? true : nth++ % 2 === 0))
    kept = kept.filter((_, i) => stays[i])
    still = still.filter((_, i) => stays[i])
    for (const c of candidates) c.sightings = []
    slow *= 2
    if (!idle) thin *= 2
  }

  return {
    /** Places one frame. Frames that cannot be placed leave everything as it was. */
    feed(seen: MarkerFrame): Tracked {
      frames++
      const n = seen.diameters.length
      const nothing = new Int32Array(n).fill(-1)
      if (n < 4) {
        tracking = tracking && n > 0
        return { state: 'few', pose, pairs: nothing, fits: 0 }
      }
      const all = sighted(o.sight, seen.xyz, seen.diameters)
      const { info, cov } = all
      if (known.length < 4) {
        const pairs = Int32Array.from({ length: n }, (_, i) => {
          const sigma = noise * Math.sqrt(cov[6 * i] + cov[6 * i + 3] + cov[6 * i + 5])
          return addKnown(seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2], sigma, seen.diameters[i])
        })
        pose = identity()
        tracking = true
        collect(seen, pose, pairs, cov)
        return { state: 'first', pose, pairs, fits: n }
      }
      const was = tracking
      const guesses = tracking ? [multiply(motion, pose), pose] : []
      const followed = firstOf(GATES, (gate) => firstOf(guesses, (g) => follow(g, all, gate)))
      let next = followed
      let why = ''
      if (!next) {
        const m = matchConstellation(index(), { xyz: seen.xyz, diameters: seen.diameters, info, noise })
        if (m.kind === 'found') next = { pose: m.pose, pairs: numbered(m.pairs), fits: m.count }
        else why = m.why
      }
      if (!next) {
        tracking = false
        lostFrames++
        motion = identity()
        return { state: 'lost', pose, pairs: nothing, fits: 0, why }
      }
      motion = followed ? multiply(next.pose, invertRigid(pose)) : identity()
      pose = next.pose
      tracking = true
      collect(seen, pose, next.pairs, cov)
      return { state: was && followed ? 'tracked' : 'regained', pose, pairs: next.pairs, fits: next.fits }
    },
    known: known as readonly Known[],
    kept: () => kept as readonly KeptFrame[],
    lost: () => lostFrames,
    frames: () => frames,
    /** Two numbers were one marker: the second goes. */
    unite(stays: number, goes: number): void {
      if (known[goes].same !== null) return
      known[goes].same = stays
      known[stays].sightings += known[goes].sightings
      for (const k of kept) for (let i = 0; i < k.pairs.length; i++) if (k.pairs[i] === goes) k.pairs[i] = stays
      constellation = undefined
    },
    /** What solving found out about the places takes the place of the running means. */
    settle(positions: ArrayLike<number>, sigma: ArrayLike<number>): void {
      const count = Math.min(known.length, positions.length / 3)
      // the last pose follows what it was measured against
      for (let i = 0; i < count; i++) {
        known[i].x = positions[3 * i]
        known[i].y = positions[3 * i + 1]
        known[i].z = positions[3 * i + 2]
        known[i].sigma = Math.max(1e-4, sigma[i] || known[i].sigma)
      }
      constellation = undefined
    },
  }
}
export type Tracker = ReturnType<typeof makeTracker>

function firstOf<T, R>(list: readonly T[], f: (t: T) => R | undefined): R | undefined {
  for (const t of list) {
    const r = f(t)
    if (r !== undefined) return r
  }
  return undefined
}

/** Widest angle between two directions from which a marker was seen, degrees. */
export function widestAngle(seenFrom: readonly number[]): number {
  let least = 1
  for (let a = 0; a < seenFrom.length; a += 3)
    for (let b = 0; b < a; b += 3) least = Math.min(least, seenFrom[a] * seenFrom[b] + seenFrom[a + 1] * seenFrom[b + 1] + seenFrom[a + 2] * seenFrom[b + 2])
  return (Math.acos(Math.max(-1, least)) * 180) / Math.PI
}
