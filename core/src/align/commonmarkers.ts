import { OakError } from '../base/errors.ts'
import { transformPoint, type Mat4 } from '../base/mat4.ts'
import { unionFind } from '../base/unionfind.ts'
import { compareMarkers, type MapDifference } from '../markers/compare.ts'
import { turned } from '../markers/levelled.ts'
import type { Markers } from '../markers/markers.ts'
import { invertSymmetric3, quadratic3, turnSymmetric3 } from '../markers/sight.ts'
import type { Placed } from '../shape/points.ts'
import { movementAt, type Unknowns } from './unknowns.ts'

/** Markers that were recorded in one setup, and its number. */
export interface SetupMarkers {
  setup: number
  map: Placed<Markers>
}

/** One marker that several setups have seen; all in the job, where the setups lay at the start. */
export interface CommonMarker {
  id: string
  setups: number[]
  /** 3 for each of them, mm */
  xyz: Float64Array
  /** 6 for each: xx xy xz yy yz zz, 1/mm^2 */
  info: Float64Array
}

export interface CommonMarkers {
  markers: CommonMarker[]
  warnings: string[]
}

/** What handling the part between two setups leaves a stuck marker beside its place, standard, mm. Common practice, no source. */
const HANDLING = 0.01
/** How far markers may err in lists that do not say it, standard, mm. */
const UNSTATED = 0.15
/** Fewer do not hold a setup. */
export const FEWEST_MARKERS = 3

/**
 * The markers that setups share, found by their mutual distances. Of lists without uncertainties, and of those that state too small ones, the spread that is left
 * when one map is laid on the other tells (unit-weight variance; Helmert 1907). Setups whose markers do not agree are named and share none.
 * Throws 'not-together' when the markers say that a setup lies more than `widest` mm from where it is.
 */
export function commonMarkers(maps: SetupMarkers[], names: readonly string[], widest: number): CommonMarkers {
  const placed = maps.map((m) => turned(m.map.data, m.map.pose))
  const starts = placed.map(() => 0)
  for (let k = 1; k < maps.length; k++) starts[k] = starts[k - 1] + placed[k - 1].ids.length
  const total = starts.length ? starts[starts.length - 1] + (placed.at(-1)?.ids.length ?? 0) : 0
  const { find, join } = unionFind(total)
  const paired = new Uint8Array(total)
  // variance of a place that its list does not state, and how much larger than stated
  const grown = maps.map(() => 1)
  const guessed = maps.map(() => 0)
  const warnings: string[] = []
  for (let a = 0; a < maps.length; a++)
    for (let b = a + 1; b < maps.length; b++) {
      if (maps[a].setup === maps[b].setup) continue
      const both = `${names[a]} and ${names[b]}`
      const d = compared(placed[a], placed[b])
      if (d instanceof OakError) {
        warnings.push(`${both}: their markers do not count. ${d.message}`)
        continue
      }
      for (const m of d.moved)
        warnings.push(`Marker ${placed[b].ids[m.b]} lies ${m.distance.toFixed(2)} mm beside its place in ${names[a]}: it does not count.`)
      const off = Math.max(...d.same.map((m) => between(placed[a], m.a, placed[b], m.b)))
      if (off > widest)
        throw new OakError('not-together', `By their markers ${both} lie ${off.toPrecision(2)} mm apart.`, {
          remedy: 'Bring the setups together by their markers first.',
        })
      const freedom = Math.max(1, 3 * d.same.length - 6)
      const spread = (d.same.length * d.rms ** 2) / freedom
      let stated = 0
      for (const m of d.same) stated += (traceOf(placed[a], m.a) + traceOf(placed[b], m.b) + 3 * HANDLING ** 2) / (3 * d.same.length)
      for (const k of [a, b]) {
        guessed[k] = Math.max(guessed[k], spread / 2)
        grown[k] = Math.max(grown[k], spread / stated)
      }
      for (const m of d.same) {
        join(starts[a] + m.a, starts[b] + m.b)
        paired[starts[a] + m.a] = paired[starts[b] + m.b] = 1
      }
    }
  const groups = new Map<number, CommonMarker & { at: number[]; weight: number[] }>()
  const c = new Float64Array(6)
  const w = new Float64Array(6)
  placed.forEach((m, k) =>
    m.ids.forEach((id, i) => {
      if (!paired[starts[k] + i]) return
      const known = traceOf(m, i) > 0
      for (let q = 0; q < 6; q++) c[q] = known ? grown[k] * m.covariance[6 * i + q] : 0
      for (const q of [0, 3, 5]) c[q] += known ? (grown[k] * HANDLING ** 2) / 2 : Math.max(guessed[k], HANDLING ** 2)
      if (!invertSymmetric3(c, w)) return
      const root = find(starts[k] + i)
      const g = groups.get(root) ?? { id, setups: [], at: [], weight: [], xyz: new Float64Array(0), info: new Float64Array(0) }
      groups.set(root, g)
      // two maps of one setup: the first that has it
      if (g.setups.includes(maps[k].setup)) return
      g.setups.push(maps[k].setup)
      g.at.push(m.positions[3 * i], m.positions[3 * i + 1], m.positions[3 * i + 2])
      g.weight.push(...w)
    }),
  )
  const markers = [...groups.values()]
    .filter((g) => g.setups.length > 1)
    .map(({ id, setups, at, weight }) => ({ id, setups, xyz: Float64Array.from(at), info: Float64Array.from(weight) }))
  return { markers, warnings }
}

/** By what the lists state; else with room for lists that state nothing, or too little. */
function compared(a: Markers, b: Markers): MapDifference | OakError {
  let refusal: OakError | undefined
  let best: MapDifference | undefined
  for (const slack of [HANDLING, UNSTATED]) {
    try {
      const d = compareMarkers(a, b, { slack })
      // where most do not fit by what the lists state, they state too little
      if (!best || (best.moved.length > best.same.length / 4 && d.same.length > best.same.length)) best = d
    } catch (e) {
      if (!(e instanceof OakError)) throw e
      refusal ??= e
    }
  }
  return best ?? (refusal as OakError)
}

const traceOf = (m: Markers, i: number) => m.covariance[6 * i] + m.covariance[6 * i + 3] + m.covariance[6 * i + 5]
const between = (a: Markers, i: number, b: Markers, j: number) => Math.hypot(...[0, 1, 2].map((k) => a.positions[3 * i + k] - b.positions[3 * j + k]))

/** The same with each setup moved. */
export function movedMarkers(markers: CommonMarker[], motionOf: (setup: number) => Mat4): CommonMarker[] {
  return markers.map((m) => {
    const info = new Float64Array(m.info.length)
    m.setups.forEach((s, k) => turnSymmetric3(motionOf(s), m.info, info, 6 * k, 6 * k))
    return { ...m, xyz: Float64Array.from(m.setups.flatMap((_, k) => placeOf(m, k, motionOf))), info }
  })
}

const placeOf = (m: CommonMarker, k: number, motionOf: (setup: number) => Mat4) =>
  transformPoint(motionOf(m.setups[k]), m.xyz[3 * k], m.xyz[3 * k + 1], m.xyz[3 * k + 2])

/** Where a setup's six unknowns stand: slot of `u` (-1: it stays put), behind `from` other unknowns. */
export interface SetupUnknowns {
  u: Unknowns
  slotOf(setup: number): number
  from: number
  motionOf(setup: number): Mat4
}

/**
 * Adds the markers to the equations of an adjustment. Where each marker really is, is eliminated (Schur 1917): what is left is how far the setups' sightings
 * lie from their weighted mean. h: size x size, g: size or nothing.
 */
export function addMarkers(markers: CommonMarker[], at: SetupUnknowns, h: Float64Array, g: Float64Array | null, size: number): void {
  for (const m of markers) {
    const n = m.setups.length
    const sum = new Float64Array(6)
    for (let k = 0; k < 6 * n; k++) sum[k % 6] += m.info[k]
    const inverse = new Float64Array(6)
    if (!invertSymmetric3(sum, inverse)) continue
    const W = Array.from({ length: n }, (_, k) => full(m.info, 6 * k))
    const S = full(inverse, 0)
    const places = m.setups.map((_, k) => placeOf(m, k, at.motionOf))
    const mean = meanOf(m, places, inverse)
    const slots = m.setups.map((s) => at.slotOf(s))
    const J = slots.map((s, k) => {
      const j = new Float64Array(18)
      if (s >= 0) movementAt(at.u, s, places[k][0], places[k][1], places[k][2], j)
      return j
    })
    for (let a = 0; a < n; a++) {
      if (slots[a] < 0) continue
      const row = at.from + 6 * slots[a]
      const pull = times(
        W[a],
        places[a].map((v, r) => v - mean[r]),
      )
      if (g) for (let p = 0; p < 6; p++) for (let r = 0; r < 3; r++) g[row + p] += J[a][6 * r + p] * pull[r]
      for (let b = 0; b < n; b++) {
        if (slots[b] < 0) continue
        const column = at.from + 6 * slots[b]
        const between = product(W[a], product(S, W[b])).map((v, k) => (a === b ? W[a][k] : 0) - v)
        for (let p = 0; p < 6; p++)
          for (let q = 0; q < 6; q++) {
            let s = 0
            for (let r = 0; r < 3; r++) for (let c = 0; c < 3; c++) s += J[a][6 * r + p] * between[3 * r + c] * J[b][6 * c + q]
            h[(row + p) * size + column + q] += s
          }
      }
    }
  }
}

export interface MarkerGaps {
  /** how far sightings of the same marker lie from their weighted mean, mm */
  rms: number
  largest: number
  /** the same against what was expected of them: about 1, large where something else pulls the setups elsewhere */
  strain: number
}

export function markerGaps(markers: CommonMarker[], motionOf: (setup: number) => Mat4): MarkerGaps {
  let [ss, count, largest, strain] = [0, 0, 0, 0]
  const sum = new Float64Array(6)
  const inverse = new Float64Array(6)
  for (const m of markers) {
    sum.fill(0)
    for (let k = 0; k < m.info.length; k++) sum[k % 6] += m.info[k]
    if (!invertSymmetric3(sum, inverse)) continue
    const places = m.setups.map((_, k) => placeOf(m, k, motionOf))
    const mean = meanOf(m, places, inverse)
    places.forEach((p, k) => {
      const r = p.map((v, c) => v - mean[c])
      const d = Math.hypot(...r)
      ss += d * d
      count++
      largest = Math.max(largest, d)
      strain += quadratic3(m.info, r[0], r[1], r[2], 6 * k)
    })
  }
  return { rms: Math.sqrt(ss / Math.max(1, count)), largest, strain: Math.sqrt(strain / Math.max(1, 3 * (count - markers.length))) }
}

/** Weighted mean of a marker's sightings; inverse: of the sum of their information. */
const meanOf = (m: CommonMarker, places: readonly number[][], inverse: Float64Array) =>
  times(
    full(inverse, 0),
    [0, 1, 2].map((r) => places.reduce((s, p, k) => s + times(full(m.info, 6 * k), p)[r], 0)),
  )

const full = (s: Float64Array, o: number) => [s[o], s[o + 1], s[o + 2], s[o + 1], s[o + 3], s[o + 4], s[o + 2], s[o + 4], s[o + 5]]
const times = (m: number[], v: readonly number[]) => [0, 1, 2].map((r) => m[3 * r] * v[0] + m[3 * r + 1] * v[1] + m[3 * r + 2] * v[2])
const product = (a: number[], b: number[]) =>
  Array.from({ length: 9 }, (_, k) => {
    const [r, c] = [Math.floor(k / 3), k % 3]
    return a[3 * r] * b[c] + a[3 * r + 1] * b[3 + c] + a[3 * r + 2] * b[6 + c]
  })
