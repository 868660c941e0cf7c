import type { AdjustResult, Sightings } from './adjust.ts'
import { quantile } from '../base/stats.ts'
import { deletedResiduals } from './deleted.ts'
import { invertSymmetric3, quadratic3, type SightModel } from './sight.ts'

/** A marker that changed its place between two frames. */
export interface Change {
  marker: number
  /** first sighting (index into the list of its sightings) at the new place, and its frame */
  from: number
  frame: number
  /** how far, mm, in map axes; and the standard uncertainty of that length */
  shift: [number, number, number]
  distance: number
  uncertainty: number
  /** how much better two places explain the sightings than one, chi-square with three freedoms */
  gain: number
  /** so many sightings tell as much as one: what a wrong calibration does to one, it does to the next as well. It is in the two above */
  alike: number
}

/** chi-square of three freedoms: chance gives more than 45 at any of some thousand cuts less than once in 10^5 */
const GAIN = 45
/** what the best cut gains in three of four markers that stand still, by noise alone: 3.6, 5.4, 6.3, 6.9 of 20, 60, 150, 300 sightings */
const BY_CHANCE = 7
/** sightings on each side of the cut */
const LEAST = 5
/** less far is not worth a name, mm */
const SMALLEST = 0.04
/** a distance of fewer standard uncertainties is none: aged calibrations feigned 7.7 of them, and 9.1 once (two of 490 markers, led another way round); a real 0.3 mm has 30 and more */
export const SURE = 8
/** a change comes from one sighting to the next: so much of it is there among the nearest ones on each side already */
const AT_ONCE = 0.6
const NEAREST = 5
/** share of the sightings on each side of which more must lie nearer to their own side's place */
const AGREE = 0.8

/**
 * Markers whose sightings tell of two places, one up to some frame and another from then on: for each, the cut in time at which two places
 * explain most more than one (likelihood ratio for a change point; Hinkley 1970), taken as a change when chance would not make it, when
 * each side agrees with itself, and when the distance is many times its uncertainty. Seen by the poses that the other markers give.
 * Errors that go on from one sighting to the next (a calibration that has aged) look like a change as well: they go on within each side, a change does not, so
 * their correlation there says how many sightings are one. Measured: 0.3 mm in any direction named in 99 of 100 recordings, no other marker in any (npm run bench,
 * part markers); with ten scanners that believe what they were made with, warm and 300 days later, none of 800 markers that stand still (there as well), and none of 900
 * led as wayRound leads. Tried: sightings taken as independent: 59 of those 900.
 */
export function findChanges(s: Sightings, solved: Pick<AdjustResult, 'poses' | 'positions' | 'normalised' | 'sigma'>, sight: SightModel): Change[] {
  const { offset, info } = deletedResiduals(s, solved, sight)
  const lists: number[][] = Array.from({ length: solved.positions.length / 3 }, () => [])
  // by time: frames are numbered as they came
  const order = Int32Array.from(s.frame.keys()).sort((a, b) => s.frame[a] - s.frame[b])
  for (const i of order) if (info[6 * i] > 0) lists[s.marker[i]].push(i)
  const found = lists.flatMap((list, marker) => {
    const k = list.length
    if (k < 2 * LEAST) return []
    const a = new Float64Array(6 * k)
    const r = new Float64Array(3 * k)
    list.forEach((i, j) => {
      for (let q = 0; q < 6; q++) a[6 * j + q] = info[6 * i + q] / solved.sigma ** 2
      for (let c = 0; c < 3; c++) r[3 * j + c] = offset[3 * i + c]
    })
    const cut = bestCut(a, r, k)
    return cut ? [{ a, r, k, cut, marker, frame: s.frame[list[cut.from]], alike: likeNext(a, r, k, cut) }] : []
  })
  // the best cut takes a part of what goes on out of its own marker; what the scanner does wrong it does to all of them, and by their cuts it is seen as well
  const usual =
    quantile(
      found.map((f) => f.cut.gain),
      0.25,
    ) / BY_CHANCE
  return found.flatMap(({ a, r, k, cut, marker, frame, ...f }) => {
    const alike = Math.max(usual, f.alike)
    const [gain, uncertainty] = [cut.gain / alike, cut.uncertainty * Math.sqrt(alike)]
    const sure = gain > GAIN && cut.distance > SMALLEST && cut.distance > SURE * uncertainty
    return sure && sidesAgree(a, r, k, cut) && atOnce(a, r, k, cut) ? [{ ...cut, marker, frame, alike, gain, uncertainty }] : []
  })
}

interface Cut {
  from: number
  gain: number
  before: [number, number, number]
  after: [number, number, number]
  shift: [number, number, number]
  distance: number
  uncertainty: number
}

function bestCut(a: Float64Array, r: Float64Array, k: number): Cut | undefined {
  const all = new Float64Array(9)
  for (let j = 0; j < k; j++) add(all, a, r, j, 1)
  const left = new Float64Array(9)
  const right = all.slice()
  const whole = explained(all)
  let best = -Infinity
  let from = -1
  for (let j = 0; j < k; j++) {
    add(left, a, r, j, 1)
    add(right, a, r, j, -1)
    if (j + 1 < LEAST || k - j - 1 < LEAST) continue
    const gain = explained(left) + explained(right) - whole
    if (gain > best) {
      best = gain
      from = j + 1
    }
  }
  if (from < 0) return undefined
  left.fill(0)
  right.fill(0)
  for (let j = 0; j < k; j++) add(j < from ? left : right, a, r, j, 1)
  const before = mean(left)
  const after = mean(right)
  const shift: [number, number, number] = [after[0] - before[0], after[1] - before[1], after[2] - before[2]]
  const distance = Math.hypot(...shift)
  const c = new Float64Array(6)
  const d = new Float64Array(6)
  invertSymmetric3(left, c)
  invertSymmetric3(right, d)
  for (let q = 0; q < 6; q++) c[q] += d[q]
  const u = shift.map((v) => v / (distance || 1))
  return { from, gain: best, before, after, shift, distance, uncertainty: Math.sqrt(Math.max(0, quadratic3(c, u[0], u[1], u[2]))) }
}

/** Sums of information (6) and of information times place (3). */
function add(to: Float64Array, a: Float64Array, r: Float64Array, j: number, sign: number): void {
  const o = 6 * j
  const [x, y, z] = [r[3 * j], r[3 * j + 1], r[3 * j + 2]]
  for (let q = 0; q < 6; q++) to[q] += sign * a[o + q]
  to[6] += sign * (a[o] * x + a[o + 1] * y + a[o + 2] * z)
  to[7] += sign * (a[o + 1] * x + a[o + 3] * y + a[o + 4] * z)
  to[8] += sign * (a[o + 2] * x + a[o + 4] * y + a[o + 5] * z)
}

function mean(t: Float64Array): [number, number, number] {
  const c = new Float64Array(6)
  if (!invertSymmetric3(t, c)) return [0, 0, 0]
  return [c[0] * t[6] + c[1] * t[7] + c[2] * t[8], c[1] * t[6] + c[3] * t[7] + c[4] * t[8], c[2] * t[6] + c[4] * t[7] + c[5] * t[8]]
}

/** What the mean takes out of the sum of squares. */
function explained(t: Float64Array): number {
  const [x, y, z] = mean(t)
  return x * t[6] + y * t[7] + z * t[8]
}

/** What creeps is no change: the sightings nearest to the cut must tell most of it. */
function atOnce(a: Float64Array, r: Float64Array, k: number, c: Cut): boolean {
  const [left, right] = [new Float64Array(9), new Float64Array(9)]
  for (let j = Math.max(0, c.from - NEAREST); j < Math.min(k, c.from + NEAREST); j++) add(j < c.from ? left : right, a, r, j, 1)
  const [before, after] = [mean(left), mean(right)]
  return c.shift.reduce((sum, v, i) => sum + v * (after[i] - before[i]), 0) > AT_ONCE * c.distance ** 2
}

/**
 * Over how many sightings an error goes on (integrated autocorrelation; Geyer 1992: summed while it is more than chance), within each side of a cut: about that
 * side's mean and along the way from one to the other, by the information of each. One where they are independent.
 */
function likeNext(a: Float64Array, r: Float64Array, k: number, c: Cut): number {
  const along = new Float64Array(k)
  const [x, y, z] = c.shift
  for (let j = 0; j < k; j++) {
    const [o, p] = [6 * j, j < c.from ? c.before : c.after]
    const [dx, dy, dz] = [r[3 * j] - p[0], r[3 * j + 1] - p[1], r[3 * j + 2] - p[2]]
    const told =
      x * (a[o] * dx + a[o + 1] * dy + a[o + 2] * dz) +
      y * (a[o + 1] * dx + a[o + 3] * dy + a[o + 4] * dz) +
      z * (a[o + 2] * dx + a[o + 4] * dy + a[o + 5] * dz)
    along[j] = told / Math.sqrt(quadratic3(a, x, y, z, o) || 1)
  }
  /** mean product of an error and that so many sightings later */
  const product = (lag: number) => {
    let [sum, n] = [0, 0]
    for (let j = 0; j + lag < k; j++)
      if (j >= c.from || j + lag < c.from) {
        sum += along[j] * along[j + lag]
        n++
      }
    return n ? sum / n : 0
  }
  const own = product(0)
  let sum = 1
  for (let lag = 1; lag < k / 2; lag++) {
    const rho = product(lag) / own
    if (!(rho > 2 / Math.sqrt(k - lag))) break
    sum += 2 * rho
  }
  return sum
}

/** A single wild sighting makes no change: most on either side must lie nearer to their own place. */
function sidesAgree(a: Float64Array, r: Float64Array, k: number, c: Cut): boolean {
  const right = [0, 0]
  for (let j = 0; j < k; j++) {
    const far = (p: number[]) => quadratic3(a, r[3 * j] - p[0], r[3 * j + 1] - p[1], r[3 * j + 2] - p[2], 6 * j)
    const nearer = far(c.before) < far(c.after)
    if (j < c.from ? nearer : !nearer) right[j < c.from ? 0 : 1]++
  }
  return right[0] > AGREE * c.from && right[1] > AGREE * (k - c.from)
}

/** Three or more that moved at one time are said together: the part was nudged, not the markers. */
export function together(moved: { id: string; time: number; together: string[] }[]): void {
  for (const m of moved) {
    const same = moved.filter((o) => Math.abs(o.time - m.time) < 3000)
    const ids = [...new Set(same.map((o) => o.id))]
    if (ids.length >= 3) m.together = ids
  }
}
