import { invertRigid, type Mat4 } from '../base/mat4.ts'
import { congruent } from '../base/solve.ts'
import { makeConstellation } from '../markers/constellation.ts'
import { followMarkers, sighted, type Sighted } from '../markers/follow.ts'
import { framePose } from '../markers/framepose.ts'
import { matchConstellation } from '../markers/match.ts'
import { invertSymmetric3, quadratic3, type SightModel } from '../markers/sight.ts'

/** Markers as a map knows them: 3N mm, 3N unit, N mm, N mm (standard uncertainty of each). */
export interface KnownMarkers {
  positions: ArrayLike<number>
  normals?: ArrayLike<number>
  diameters: ArrayLike<number>
  sigma: ArrayLike<number>
}

export interface MarkerTrackingOptions {
  sight: SightModel
  /** noise of the sightings in the unit of the sight model (px for cameras). Default 0.03; what is seen while tracking corrects what is stated */
  noise?: number
  /** longest distance two markers of one frame can have, mm. Default 600 */
  reach?: number
}

/** Markers of one frame in scanner coordinates: 3n mm, n mm (0 where a diameter is not known). */
export interface SeenMarkers {
  xyz: ArrayLike<number>
  diameters: ArrayLike<number>
}

export interface MarkerPose {
  /** scanner to map */
  pose: Mat4
  /** 6 x 6, row major: turn (rad) and shift (mm) of the map against the scanner, in its axes; noise of the sightings and what is not known of the markers */
  covariance: Float64Array
  /** markers that fit, of those that were seen */
  fits: number
  seen: number
  /** rms of what is left, in deviations that were expected: 1 is as stated */
  rms: number
}

/** mm within which a marker is looked for: near first, so that false ones seldom get in */
const GATES = [4, 15]
/** what was stated counts as so many observations when the noise is learned */
const PRIOR = 60
/** markers are never known better than that: the paper they are printed on, mm */
const FLOOR = 0.002

/**
 * Places frames by the markers of a map that was made before. Four must fit; each counts by its sighting's noise and by how well the map knows it, so that what
 * is stated holds where the map is the weaker of both. Nothing here depends on the order of frames but the noise that is learned of them. Positions that are
 * off together (the map's scale) are not in the covariance: they are the map's own.
 */
export function markerTracker(map: KnownMarkers, o: MarkerTrackingOptions) {
  const noise = o.noise ?? 0.03
  const c = makeConstellation(map.positions, {
    diameters: map.diameters,
    ...(map.normals ? { normals: map.normals } : {}),
    sigma: Array.from(map.sigma, (s) => Math.max(FLOOR, s || 0)),
    reach: o.reach ?? 600,
  })
  /** squares of what was left, and observations beyond those that a pose needs */
  let squares = 0
  let freedoms = 0

  const scale = () => (squares + PRIOR) / (freedoms + PRIOR)

  /** map: to scanner. pairs: of the constellation */
  const weighed = (at: Mat4, pairs: Int32Array, seen: Sighted): MarkerPose | undefined => {
    const info = new Float64Array(6 * pairs.length)
    let fits = 0
    for (let i = 0; i < pairs.length; i++) {
      if (pairs[i] < 0) continue
      fits++
      for (let k = 0; k < 6; k++) info[6 * i + k] = noise * noise * seen.cov[6 * i + k]
      const s2 = c.sigma[pairs[i]] ** 2
      for (const k of [0, 3, 5]) info[6 * i + k] += s2
      invertSymmetric3(info, info, 6 * i, 6 * i)
    }
    const r = framePose(c.positions, seen.xyz, info, pairs, at, 4)
    if (!r) return undefined
    let chi = 0
    for (let i = 0; i < pairs.length; i++) {
      if (pairs[i] < 0) continue
      const d = [0, 1, 2].map((k) => {
        const [px, py, pz] = [0, 1, 2].map((j) => c.positions[3 * pairs[i] + j])
        return seen.xyz[3 * i + k] - r.pose[4 * k] * px - r.pose[4 * k + 1] * py - r.pose[4 * k + 2] * pz - r.pose[4 * k + 3]
      })
      chi += quadratic3(info.subarray(6 * i, 6 * i + 6), d[0], d[1], d[2])
    }
    const free = 3 * fits - 6
    squares += chi
    freedoms += free
    const times = scale()
    return {
      pose: invertRigid(r.pose),
      covariance: aboutScanner(r.pose, r.covariance).map((v) => times * v),
      fits,
      seen: pairs.length,
      rms: Math.sqrt(chi / free),
    }
  }

  return {
    /** By a pose (scanner to map) that is nearly right. Undefined when fewer than four markers fit there. */
    lay(seen: SeenMarkers, predicted: Mat4): MarkerPose | undefined {
      if (seen.diameters.length < 4) return undefined
      const all = sighted(o.sight, seen.xyz, seen.diameters)
      const guess = invertRigid(predicted)
      for (const gate of GATES) {
        // what is learned widens what fits, or the worst would be left out and nothing learned
        const f = followMarkers(c, noise * Math.sqrt(Math.max(1, scale())), guess, all, gate)
        if (f) return weighed(f.pose, f.pairs, all)
      }
      return undefined
    },
    /** From nothing, by their constellation. Undefined where no place stands out. */
    find(seen: SeenMarkers): MarkerPose | undefined {
      if (seen.diameters.length < 4) return undefined
      const all = sighted(o.sight, seen.xyz, seen.diameters)
      const m = matchConstellation(c, { xyz: seen.xyz, diameters: seen.diameters, info: all.info, noise })
      return m.kind === 'found' ? weighed(m.pose, m.pairs, all) : undefined
    },
  }
}
/** A pose of framePose turns about where it takes the origin of the map; here about the scanner's own. */
function aboutScanner(pose: Mat4, covariance: Float64Array): Float64Array {
  const [x, y, z] = [pose[3], pose[7], pose[11]]
  // t' = t - w x t0
  const j = Float64Array.from({ length: 36 }, (_, i) => (i % 7 === 0 ? 1 : 0))
  j.set([0, -z, y], 18)
  j.set([z, 0, -x], 24)
  j.set([-y, x, 0], 30)
  return congruent(j, covariance)
}
export type MarkerTracker = ReturnType<typeof markerTracker>
