import { OakError } from '../base/errors.ts'
import { defineKernel } from '../base/run.ts'
import type { Mat4 } from '../base/mat4.ts'
import { continueMap } from './continue.ts'
import { adjustMarkers, type AdjustResult, type Sightings } from './adjust.ts'
import { compareMarkers } from './compare.ts'
import { firstFrame, isMissing, lastFrame, pairOff, place } from './missing.ts'
import { findChanges, SURE, together, type Change } from './moved.ts'
import { makeMarkers, worstUncertainty, type Markers } from './markers.ts'
import { evenSight, quadratic3, stereoSight } from './sight.ts'
import type { MapInput, MovedMarker, SolvedMap } from './map.ts'
import { widestAngle, type Tracker } from './tracker.ts'

const LEAST_SIGHTINGS = 4
/** sightings beyond so many standard deviations do not count */
const REJECT = 6
const MERGE = 2.5

export function mapInput(t: Tracker, o: Pick<MapInput, 'stereo' | 'scale' | 'range' | 'ids' | 'before' | 'plan'>): MapInput {
  const k = t.known
  return {
    ...o,
    frames: t.kept().slice(),
    positions: Float64Array.from(k.flatMap((m) => [m.x, m.y, m.z])),
    diameters: Float64Array.from(k, (m) => m.diameter),
    normals: Float64Array.from(
      k.flatMap((m) => {
        const l = Math.hypot(m.nx, m.ny, m.nz) || 1
        return [m.nx / l, m.ny / l, m.nz / l]
      }),
    ),
    angles: Float64Array.from(k, (m) => widestAngle(m.seenFrom)),
  }
}

/**
 * The map out of all frames that were kept: joint adjustment, markers that changed their place named and given a new one, markers
 * that are gone named, doubles put together. Positions are those at the end of the recording. Throws 'too-few-markers',
 * 'not-determined'.
 */
export function solveMap(input: MapInput): SolvedMap {
  const sight = input.stereo ? stereoSight(input.stereo) : evenSight
  const count = input.diameters.length
  // of: which tracker number each marker of the solution stands for; a moved marker stands twice
  const of = Array.from({ length: count }, (_, i) => i)
  // of a marker that moved: how, and the number it has at its new place
  const later = new Map<number, Change>()
  const assigned = input.frames.map((f) => f.pairs.slice())
  const doubles = mergeDoubles(input, assigned)
  // nothing is rejected yet: of a marker that stood in two places all sightings would be, and it would drop out unseen
  let solution = adjust(input, assigned, of, sight, Infinity)
  const vain = new Set<number>()
  // the places of one marker hang in a chain: one that was knocked against twice has two changes, found in any order
  const split = (c: Change) => {
    const marker = of.push(of[c.marker]) - 1
    for (const pairs of assigned.slice(c.frame)) for (let i = 0; i < pairs.length; i++) if (pairs[i] === c.marker) pairs[i] = marker
    const next = later.get(c.marker)
    if (next) later.set(marker, next)
    later.set(c.marker, { ...c, marker })
  }
  const unite = (c: Change) => {
    const goes = later.get(c.marker)?.marker ?? -1
    for (const pairs of assigned) for (let i = 0; i < pairs.length; i++) if (pairs[i] === goes) pairs[i] = c.marker
    const next = later.get(goes)
    if (next) later.set(c.marker, next)
    else later.delete(c.marker)
    later.delete(goes)
  }
  // one change at a time where several are found: a moved marker bends the poses a little, and others follow it
  for (let round = 0; round < 12; round++) {
    const { result, sightings, used } = solution
    const changes = findChanges(sightings, result, sight)
      .map((c) => ({ ...c, marker: used[c.marker] }))
      .filter((c) => !vain.has(c.marker))
    if (!changes.length) break
    const strongest = Math.max(...changes.map((c) => c.gain))
    const trial = (some: Change[]): Solution | undefined => {
      some.forEach(split)
      const s = adjust(input, assigned, of, sight, Infinity)
      return some.every((c) => holds(s, c.marker, later.get(c.marker))) ? s : undefined
    }
    const all = changes.filter((c) => c.gain >= 0.3 * strongest)
    let next = trial(all)
    if (!next) {
      // together they leave too little that ties the time before to the time after: the one that alone explains most
      all.forEach(unite)
      const alone = all.map((c) => {
        const s = trial([c])
        unite(c)
        return { c, sigma: s?.result.sigma ?? Infinity }
      })
      const best = alone.reduce((x, y) => (y.sigma < x.sigma ? y : x))
      if (best.sigma === Infinity) for (const { c } of alone) vain.add(c.marker)
      else next = trial([best.c])
    }
    solution = next ?? solution
  }
  solution = adjust(input, assigned, of, sight, REJECT)
  const solved = { ...report(input, of, later, assigned, solution), doubles }
  if (input.before) return since(input.before, solved)
  return input.plan ? named(input.plan, solved) : solved
}

/** Whether two places of a marker are still two when everything is solved with them. */
function holds({ result, used }: Solution, before: number, l: Change | undefined): boolean {
  const [from, to] = [used.indexOf(before), l ? used.indexOf(l.marker) : -1]
  if (!l || from < 0 || to < 0) return true
  const { distance, uncertainty } = between(result, from, to)
  return distance > SURE * uncertainty * Math.sqrt(l.alike)
}

/** how far a hand sticks a marker beside its planned place, standard deviation, mm; measured on nobody: common practice, no source */
const HAND = 2

/** Markers that sit where they were planned take the names of the plan, and what they sit on. */
function named(plan: Markers, solved: SolvedMap): SolvedMap {
  let d: ReturnType<typeof compareMarkers>
  try {
    d = compareMarkers(plan, solved.markers, { slack: HAND, search: 30 })
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    return solved
  }
  const found = [...d.same, ...d.moved]
  const names = new Map(found.map((f) => [f.b, plan.ids[f.a]]))
  const used = new Set(plan.ids)
  let next = 1
  const old = solved.markers.ids
  const ids = old.map((_, i) => {
    const own = names.get(i)
    if (own !== undefined) return own
    while (used.has(String(next))) next++
    used.add(String(next))
    return String(next)
  })
  const renamed = (id: string) => ids[old.indexOf(id)] ?? id
  return {
    ...solved,
    markers: {
      ...solved.markers,
      ids,
      perch: Uint8Array.from(ids, (_, i) => {
        const f = found.find((x) => x.b === i)
        return f ? plan.perch[f.a] : 0
      }),
    },
    moved: solved.moved.map((m) => ({ ...m, id: renamed(m.id), together: m.together.map(renamed) })),
    missing: solved.missing,
    added: ids.filter((id) => !plan.ids.includes(id)),
    planned: { pose: d.pose, beside: found.map((f) => ({ id: plan.ids[f.a], distance: f.distance })), absent: d.gone.map((i) => plan.ids[i]) },
  }
}

/** Brings the map into the axes of the one before, and names what moved in between. */
function since(before: Markers, solved: SolvedMap): SolvedMap {
  const c = continueMap(before, solved)
  const named = new Set(solved.moved.map((m) => m.id))
  const moved = c.moved.filter((m) => !named.has(m.id)).map((m): MovedMarker => ({ ...m, shift: [0, 0, 0], time: -1, together: [] }))
  const all = [...solved.moved, ...moved]
  together(all)
  return {
    ...solved,
    markers: c.markers,
    moved: all,
    kept: c.kept,
    apart: c.apart,
    added: c.apart ? [] : c.markers.ids.filter((id) => !before.ids.includes(id)),
  }
}

export const solveMapKernel = defineKernel('solve-marker-map', (input: MapInput): SolvedMap | { error: { code: string; message: string; remedy: string } } => {
  try {
    return solveMap(input)
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    return { error: { code: e.code, message: e.message, remedy: e.remedy } }
  }
})

interface Solution {
  result: AdjustResult
  sightings: Sightings
  /** by marker of the adjustment: number in `of` */
  used: number[]
}

function adjust(input: MapInput, assigned: Int32Array[], of: number[], sight: ReturnType<typeof stereoSight>, reject: number): Solution {
  const without = new Set<number>()
  for (;;) {
    const solution = adjustOnce(input, assigned, of, sight, without, reject)
    if (reject === Infinity) return solution
    // a marker none of whose sightings fit hangs on nothing
    const { sightings, result, used } = solution
    const counts = new Int32Array(used.length)
    for (let i = 0; i < sightings.marker.length; i++) if (result.normalised[i] <= REJECT) counts[sightings.marker[i]]++
    const loose = used.filter((_, at) => counts[at] < LEAST_SIGHTINGS)
    if (!loose.length) return solution
    for (const m of loose) without.add(m)
  }
}

function adjustOnce(
  input: MapInput,
  assigned: Int32Array[],
  of: number[],
  sight: ReturnType<typeof stereoSight>,
  without: Set<number>,
  reject: number,
): Solution {
  const seen = new Int32Array(of.length)
  for (const pairs of assigned) for (const m of pairs) if (m >= 0) seen[m]++
  // frames with fewer than four of the markers that count say nothing, which may take sightings from others
  let good = seen.map((n, m) => (n >= LEAST_SIGHTINGS && !without.has(m) ? 1 : 0))
  let frames: number[] = []
  for (let round = 0; round < 5; round++) {
    frames = assigned.flatMap((pairs, f) => (pairs.filter((m) => m >= 0 && good[m]).length >= 4 ? [f] : []))
    const again = new Int32Array(of.length)
    for (const f of frames) for (const m of assigned[f]) if (m >= 0 && good[m]) again[m]++
    const next = again.map((n, m) => (n >= LEAST_SIGHTINGS && !without.has(m) ? 1 : 0))
    if (next.every((v, i) => v === good[i])) break
    good = next
  }
  const used: number[] = []
  const number = new Int32Array(of.length).fill(-1)
  good.forEach((g, i) => g && (number[i] = used.push(i) - 1))
  if (used.length < 4)
    throw new OakError('too-few-markers', `Only ${used.length} markers were seen by ${LEAST_SIGHTINGS} frames or more.`, {
      remedy: 'A map needs four markers at the least, six to be comfortable. Stick more, and show them from several sides.',
    })
  const frame: number[] = []
  const marker: number[] = []
  const xyz: number[] = []
  frames.forEach((f, at) =>
    assigned[f].forEach((m, i) => {
      if (m < 0 || number[m] < 0) return
      frame.push(at)
      marker.push(number[m])
      xyz.push(input.frames[f].xyz[3 * i], input.frames[f].xyz[3 * i + 1], input.frames[f].xyz[3 * i + 2])
    }),
  )
  const sightings = { frame: Int32Array.from(frame), marker: Int32Array.from(marker), xyz: Float64Array.from(xyz) }
  const positions = Float64Array.from(used.flatMap((m) => [0, 1, 2].map((k) => input.positions[3 * of[m] + k])))
  const result = adjustMarkers({ sightings, poses: frames.map((f) => input.frames[f].pose), positions, sight, reject })
  // frame numbers of the recording, for whoever asks when something happened
  const poses: Mat4[] = []
  frames.forEach((f, at) => (poses[f] = result.poses[at]))
  return { result: { ...result, poses }, sightings: { ...sightings, frame: sightings.frame.map((at) => frames[at]) }, used }
}

/** Two numbers for one marker, never both in one frame and nearer than a marker is wide: one. */
function mergeDoubles(input: MapInput, assigned: Int32Array[]): [number, number][] {
  const out: [number, number][] = []
  const p = input.positions
  const count = input.diameters.length
  for (let a = 0; a < count; a++)
    for (let b = a + 1; b < count; b++) {
      if (Math.hypot(p[3 * a] - p[3 * b], p[3 * a + 1] - p[3 * b + 1], p[3 * a + 2] - p[3 * b + 2]) > MERGE) continue
      if (assigned.some((pairs) => pairs.includes(a) && pairs.includes(b))) continue
      for (const pairs of assigned) for (let i = 0; i < pairs.length; i++) if (pairs[i] === b) pairs[i] = a
      out.push([a, b])
    }
  return out
}

function report(input: MapInput, of: number[], later: Map<number, Change>, assigned: Int32Array[], { result, sightings, used }: Solution): SolvedMap {
  const name = nameOf(input)
  const squares = new Float64Array(used.length)
  const counts = new Uint32Array(used.length)
  for (let i = 0; i < sightings.marker.length; i++) {
    if (result.normalised[i] > REJECT) continue
    squares[sightings.marker[i]] += result.residuals[i] ** 2
    counts[sightings.marker[i]]++
  }
  // of a marker that moved only the last place stays
  const stays = used.flatMap((m, at) => (later.has(m) ? [] : [at]))
  const missing = stays.filter((at) => isMissing(input, assigned, used[at], result, at))
  const here = stays.filter((at) => !missing.includes(at))
  const relocated = pairOff(
    missing.map((at) => ({ at, place: place(result, at), diameter: input.diameters[of[used[at]]] })),
    here
      .filter((at) => firstFrame(assigned, used[at]) > 0)
      .map((at) => ({ at, place: place(result, at), diameter: input.diameters[of[used[at]]], first: firstFrame(assigned, used[at]) })),
    (at) => lastFrame(assigned, used[at]),
  )
  const moved = [...later].map(([old, l]): MovedMarker => {
    // between both places as finally solved: when the change was found, the marker still bent the poses a little
    const [from, to] = [used.indexOf(old), used.indexOf(l.marker)]
    const both = from >= 0 && to >= 0 ? between(result, from, to) : l
    return {
      id: name(of[l.marker]),
      distance: both.distance,
      uncertainty: both.uncertainty * (both === l ? 1 : Math.sqrt(l.alike)),
      shift: both.shift,
      time: input.frames[l.frame].time,
      together: [],
    }
  })
  const names = new Map<number, string>()
  for (const { from, to, distance, shift } of relocated) {
    const id = name(of[used[from]])
    names.set(to, id)
    moved.push({
      id,
      distance,
      uncertainty: between(result, from, to).uncertainty,
      shift,
      time: input.frames[firstFrame(assigned, used[to])].time,
      together: [],
    })
  }
  moved.sort((a, b) => a.time - b.time)
  together(moved)
  const list = here
  const uncertainties = list.map((at) => worstUncertainty(result.covariance, at))
  return {
    markers: makeMarkers({
      ids: list.map((at) => names.get(at) ?? name(of[used[at]])),
      positions: list.flatMap((at) => place(result, at)),
      diameters: list.map((at) => input.diameters[of[used[at]]]),
      normals: list.flatMap((at) => [0, 1, 2].map((k) => input.normals[3 * of[used[at]] + k])),
      covariance: list.flatMap((at) => Array.from(result.covariance.subarray(6 * at, 6 * at + 6))),
      frames: list.map((at) => counts[at]),
      scale: input.scale,
    }),
    numbers: list.map((at) => of[used[at]]),
    residuals: list.map((at) => Math.sqrt(squares[at] / Math.max(1, counts[at]))),
    angles: list.map((at) => input.angles[of[used[at]]]),
    moved,
    missing: missing.filter((at) => !relocated.some((r) => r.from === at)).map((at) => name(of[used[at]])),
    dropped: input.diameters.length - new Set(used.map((m) => of[m])).size,
    kept: [],
    apart: '',
    added: [],
    planned: null,
    doubles: [],
    frames: result.poses.filter((p) => p as Mat4 | undefined).length,
    sightings: sightings.marker.length,
    rejected: result.rejected,
    sigma: result.sigma,
    rms: result.rms,
    uncertainty: Math.sqrt(uncertainties.reduce((s, u) => s + u * u, 0) / Math.max(1, list.length)),
  }
}

/** Names given before stay; new markers get the next free numbers. */
function nameOf(input: MapInput): (i: number) => string {
  const ids = [...(input.ids ?? [])]
  let next = 1
  for (let i = ids.length; i < input.diameters.length; i++) {
    while (ids.includes(String(next))) next++
    ids.push(String(next))
  }
  return (i) => ids[i]
}

/** From one marker of a solution to another: shift, its length, and the standard uncertainty of the length along it, mm. */
function between(r: AdjustResult, from: number, to: number): { shift: [number, number, number]; distance: number; uncertainty: number } {
  const shift: [number, number, number] = [0, 0, 0]
  for (let k = 0; k < 3; k++) shift[k] = r.positions[3 * to + k] - r.positions[3 * from + k]
  const distance = Math.hypot(...shift)
  const u = shift.map((v) => v / (distance || 1))
  const v = quadratic3(r.covariance, u[0], u[1], u[2], 6 * from) + quadratic3(r.covariance, u[0], u[1], u[2], 6 * to)
  return { shift, distance, uncertainty: Math.sqrt(Math.max(0, v)) }
}
