import { cross, dot, unit } from '../base/vec3.ts'
import { jacobiEigen } from '../base/eigen.ts'
import type { Adjustment } from './adjustment.ts'
import type { Unknowns } from './unknowns.ts'
import type { WeakModes } from './weakmodes.ts'

/** A small rigid motion as a person sees it. */
export interface Motion {
  kind: 'turn' | 'slide' | 'screw'
  /** unit direction of the slide, or of the axis, in the job */
  axis: [number, number, number]
  /** a place on the axis; of a slide the middle of what slides */
  through: [number, number, number]
  /** what moves, mm from `through` to its far places: how long an arrow should be */
  size: number
}

/** A motion of some passes against the rest that nothing holds. */
export interface FreeMotion extends Motion {
  /** the passes that move, all together */
  passes: number[]
}

/** Motions below this share of the largest are none. */
const SMALL = 0.05

/** What surface does not hold (weak motions of `u`), sorted by the passes that move together, and told as turns and slides. */
export function freeMotions(job: Adjustment, u: Unknowns, weak: WeakModes, apart: number[]): FreeMotion[] {
  const modes = scaled(weak, 6 * u.count)
  if (!modes.length) return []
  const n = job.passes.length
  // motion of each pass in each mode: turn (rad) and shift at its own middle
  const twist = Array.from({ length: n }, (_, i) => modes.map((v) => twistOf(job, u, i, v)))
  const amplitude = (i: number, t: Twist[]) => Math.max(...t.map((w) => Math.hypot(...w.turn) * job.levers[i] + Math.hypot(...w.shift)))
  const largest = Math.max(...twist.map((t, i) => amplitude(i, t)), 1e-300)
  const groups: number[][] = []
  for (let i = 0; i < n; i++) {
    if (apart.includes(i) || amplitude(i, twist[i]) < SMALL * largest) continue
    const same = groups.find(([j]) => {
      const at = middleOf(job, i)
      return twist[i].every((t, k) => {
        const other = moved(twist[j][k], middleOf(job, j), at)
        const turn = Math.hypot(...t.turn.map((x, c) => x - other.turn[c])) * job.levers[i]
        return turn + Math.hypot(...t.shift.map((x, c) => x - other.shift[c])) < 2 * SMALL * largest
      })
    })
    if (same) same.push(i)
    else groups.push([i])
  }
  return groups.flatMap((passes) => motionsOf(job, passes, twist[passes[0]]))
}

/** Weak motions, each 6m numbers, largest slot of length one. */
function scaled(weak: WeakModes, size: number): Float64Array[] {
  return Array.from({ length: weak.count }, (_, c) => {
    const v = Float64Array.from({ length: size }, (_, i) => weak.vectors[i * weak.count + c])
    let most = 1e-300
    for (let s = 0; s < size; s += 6) most = Math.max(most, Math.hypot(...v.subarray(s, s + 6)))
    return v.map((x) => x / most)
  })
}

interface Twist {
  turn: number[]
  shift: number[]
}

const middleOf = (job: Adjustment, i: number) => [job.centres[3 * i], job.centres[3 * i + 1], job.centres[3 * i + 2]]

/** The same motion, its shift told at another place. */
function moved(t: Twist, from: number[], to: number[]): Twist {
  const r = to.map((v, k) => v - from[k])
  const c = cross(t.turn, r)
  return { turn: t.turn, shift: t.shift.map((v, k) => v + c[k]) }
}

function twistOf(job: Adjustment, u: Unknowns, i: number, v: Float64Array): Twist {
  const s = u.slotOf[i]
  if (s < 0) return { turn: [0, 0, 0], shift: [0, 0, 0] }
  const t = { turn: [0, 1, 2].map((k) => v[6 * s + k] / u.lever[s]), shift: [0, 1, 2].map((k) => v[6 * s + 3 + k]) }
  return moved(t, [u.centre[3 * s], u.centre[3 * s + 1], u.centre[3 * s + 2]], middleOf(job, i))
}

/** Motions of one rigid group. */
function motionsOf(job: Adjustment, passes: number[], twists: Twist[]): FreeMotion[] {
  const first = middleOf(job, passes[0])
  const middle = [0, 1, 2].map((k) => passes.reduce((s, i) => s + job.centres[3 * i + k], 0) / passes.length)
  const size = Math.max(...passes.map((i) => job.levers[i] + Math.hypot(...middleOf(job, i).map((v, k) => v - middle[k]))))
  // columns: turns as movement at the lever, shifts at the middle
  const columns = twists.map((t) => {
    const m = moved(t, first, middle)
    return [...m.turn.map((x) => x * size), ...m.shift]
  })
  return motionsIn(columns, middle, size).map((m) => ({ passes, ...m }))
}

/**
 * All small motions that combine from the given ones, as slides first, then turns about axes (Plücker; Ball 1900). columns: six numbers each, turn as movement at
 * `size` (mm) and shift of the place `middle`.
 */
export function motionsIn(columns: number[][], middle: number[], size: number): Motion[] {
  const gram = new Float64Array(36)
  for (const c of columns) for (let a = 0; a < 6; a++) for (let b = 0; b < 6; b++) gram[6 * a + b] += c[a] * c[b]
  const { values, vectors } = jacobiEigen(gram, 6)
  const basis: number[][] = []
  for (let k = 5; k >= 0; k--) if (values[k] > (2 * SMALL) ** 2 * values[5]) basis.push([0, 1, 2, 3, 4, 5].map((r) => vectors[6 * r + k]))
  const r = basis.length
  // slides: combinations without any turn
  const turns = new Float64Array(r * r)
  for (let a = 0; a < r; a++) for (let b = 0; b < r; b++) turns[a * r + b] = dot(basis[a], basis[b])
  const split = jacobiEigen(turns, r)
  const combined = Array.from({ length: r }, (_, k) => [0, 1, 2, 3, 4, 5].map((q) => basis.reduce((s, v, a) => s + split.vectors[a * r + k] * v[q], 0)))
  const slides = combined.filter((_, k) => split.values[k] < 0.02).map((v) => unit(v.slice(3)))
  const out: Motion[] = slides.map((axis) => ({ kind: 'slide', axis: upwards(axis), through: middle as [number, number, number], size }))
  for (let k = 0; k < r; k++) {
    if (split.values[k] < 0.02) continue
    const w = combined[k].slice(0, 3).map((x) => x / size)
    let t = combined[k].slice(3)
    for (const s of slides) t = t.map((x, c) => x - dot(t, s) * s[c])
    const w2 = dot(w, w)
    const along = dot(w, t) / Math.sqrt(w2)
    const off = cross(w, t).map((x) => x / w2)
    out.push({
      kind: Math.abs(along) > 0.3 * Math.sqrt(w2) * size ? 'screw' : 'turn',
      axis: upwards(unit(w)),
      through: middle.map((x, c) => x + off[c]) as [number, number, number],
      size,
    })
  }
  return out
}

/** Of both directions of a line the one whose largest part is positive. */
function upwards(v: number[]): [number, number, number] {
  const k = [0, 1, 2].reduce((a, b) => (Math.abs(v[b]) > Math.abs(v[a]) + 1e-9 ? b : a))
  return v.map((x) => (v[k] < 0 ? -x : x)) as [number, number, number]
}

/** What a person reads: "slide along z", "turn about a line near x". */
export function motionWords(f: Pick<Motion, 'kind' | 'axis'>): string {
  const line = lineWords(f.axis)
  return f.kind === 'slide' ? `slide along ${line}` : f.kind === 'turn' ? `turn about ${line}` : `screw about ${line}`
}
/** A direction, as a person would say it. */
export function lineWords(axis: readonly number[]): string {
  const k = [0, 1, 2].reduce((a, b) => (Math.abs(axis[b]) > Math.abs(axis[a]) ? b : a))
  const c = Math.abs(axis[k])
  return c > 0.996 ? 'xyz'[k] : c > 0.9 ? `a line near ${'xyz'[k]}` : 'a slanting line'
}
