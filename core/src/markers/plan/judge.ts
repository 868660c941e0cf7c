import { findLookAlikes, type LookAlike } from '../lookalike.ts'
import { PERCHES } from '../markers.ts'
import { REASONS, SEEN, sees, type PlanScene, type Stand, type View } from './scene.ts'

/** Markers of a plan, by flat arrays: 3N, 3N, N, N (number of the perch). */
export interface Placed {
  positions: ArrayLike<number>
  normals: ArrayLike<number>
  diameters: ArrayLike<number>
  perch: ArrayLike<number>
}

export interface PlanVerdict {
  /** by direction: fewest markers that any stand of it sees */
  seen: number[]
  /** by direction: what keeps the others from being seen most often there; '' where there are enough */
  why: string[]
  /** directions with at least the least and with the wanted number, 0..1 */
  enough: number
  comfortable: number
  weakest: number
  lookAlikes: LookAlike[]
  /** groups of directions between which tracking breaks: fewer than three markers seen from both */
  islands: number
  /** mm between neighbours: smallest, median */
  nearest: number
  median: number
  warnings: string[]
}

export interface JudgeOptions {
  least: number
  wanted: number
  /** markers left in the box, by size in mm; not counted where it is not known */
  stock?: Record<string, number>
  turns: boolean
}

/** Tracking passes from one direction to the next over so many markers that both see. */
const SHARED = 3
/** cosine between neighbouring directions: about 25 degrees */
const NEIGHBOUR = 0.906

/** How good a set of markers is, from every direction that is needed. Fast enough to follow a marker that is dragged. */
export function judgePlan(scene: PlanScene, view: View, stands: Stand[], directions: ArrayLike<number>, m: Placed, o: JudgeOptions): PlanVerdict {
  const n = m.diameters.length
  const count = directions.length / 3
  const seen = new Array<number>(count).fill(Infinity)
  const why = new Array<string>(count).fill('')
  const sets: Set<number>[] = Array.from({ length: count }, () => new Set<number>())
  const tally = new Int32Array(REASONS.length)
  for (const stand of stands) {
    tally.fill(0)
    const mine: number[] = []
    for (let i = 0; i < n; i++) {
      const r = sees(scene, view, stand, spot(m, i), spotNormal(m, i), m.diameters[i])
      tally[r]++
      if (r === SEEN) mine.push(i)
    }
    const d = stand.direction
    for (const i of mine) sets[d].add(i)
    if (mine.length < seen[d]) {
      seen[d] = mine.length
      tally[SEEN] = 0
      const worst = tally.indexOf(Math.max(...tally))
      why[d] = mine.length >= o.wanted ? '' : tally[worst] > 0 ? REASONS[worst] : 'no marker there'
    }
  }
  for (let d = 0; d < count; d++) if (!Number.isFinite(seen[d])) seen[d] = 0
  const share = (least: number) => (count ? seen.filter((s) => s >= least).length / count : 0)
  const lookAlikes = findLookAlikes(m.positions, m.diameters)
  const gaps = neighbourGaps(m)
  const islands = countIslands(sets, directions)
  const verdict: PlanVerdict = {
    seen,
    why,
    enough: share(o.least),
    comfortable: share(o.wanted),
    weakest: count ? Math.min(...seen) : 0,
    lookAlikes,
    islands,
    nearest: gaps.length ? gaps[0] : NaN,
    median: gaps.length ? gaps[gaps.length >> 1] : NaN,
    warnings: [],
  }
  verdict.warnings = warningsOf(scene, m, verdict, o)
  return verdict
}

const three: [number, number, number] = [0, 0, 0]
const threeN: [number, number, number] = [0, 0, 0]
function spot(m: Placed, i: number): [number, number, number] {
  for (let k = 0; k < 3; k++) three[k] = m.positions[3 * i + k]
  return three
}
function spotNormal(m: Placed, i: number): [number, number, number] {
  for (let k = 0; k < 3; k++) threeN[k] = m.normals[3 * i + k]
  return threeN
}

/** Distance of each marker to its nearest, ascending. */
function neighbourGaps(m: Placed): number[] {
  const n = m.diameters.length
  const out: number[] = []
  for (let i = 0; i < n; i++) {
    let best = Infinity
    for (let j = 0; j < n; j++)
      if (j !== i)
        best = Math.min(
          best,
          Math.hypot(m.positions[3 * i] - m.positions[3 * j], m.positions[3 * i + 1] - m.positions[3 * j + 1], m.positions[3 * i + 2] - m.positions[3 * j + 2]),
        )
    if (best < Infinity) out.push(best)
  }
  return out.sort((a, b) => a - b)
}

/** Groups of directions that hang together by shared markers; directions that see too few to track are left out. */
function countIslands(sets: Set<number>[], directions: ArrayLike<number>): number {
  const count = sets.length
  const alive = sets.map((s) => s.size >= SHARED + 1)
  const group = new Int32Array(count).fill(-1)
  let groups = 0
  for (let start = 0; start < count; start++) {
    if (!alive[start] || group[start] >= 0) continue
    const stack = [start]
    group[start] = groups
    for (let a = stack.pop(); a !== undefined; a = stack.pop())
      for (let b = 0; b < count; b++) {
        if (!alive[b] || group[b] >= 0) continue
        const cos = directions[3 * a] * directions[3 * b] + directions[3 * a + 1] * directions[3 * b + 1] + directions[3 * a + 2] * directions[3 * b + 2]
        if (cos < NEIGHBOUR) continue
        let shared = 0
        for (const i of sets[a]) if (sets[b].has(i)) shared++
        if (shared < SHARED) continue
        group[b] = groups
        stack.push(b)
      }
    groups++
  }
  return groups
}

function warningsOf(scene: PlanScene, m: Placed, v: PlanVerdict, o: JudgeOptions): string[] {
  const out: string[] = []
  const around = Array.from(m.perch).some((p) => PERCHES[p] !== 'part')
  const onPart = Array.from(m.perch).filter((p) => PERCHES[p] === 'part').length
  if (around)
    out.push(
      onPart > 0
        ? 'Markers stand on the table as well: the part may not be moved against it within this setup.'
        : 'All markers stand around the part: it may not be turned or moved within this setup.',
    )
  if (v.islands > 1) {
    const size = [0, 1, 2].map((k) => scene.box[k + 3] - scene.box[k]).sort((a, b) => a - b)
    out.push(
      size[0] < 0.25 * size[1]
        ? 'The part is thin, and its two sides share no markers: tracking ends on the way round the edge. Add some that both sides can see, on blocks or on the rim.'
        : `Tracking breaks between ${v.islands} groups of directions: neighbouring views share fewer than ${SHARED} markers.`,
    )
  }
  if (v.enough < 1) out.push(`From ${percent(1 - v.enough)} of the directions fewer than ${o.least} markers are seen.`)
  for (const [size, left] of Object.entries(o.stock ?? {})) {
    const needed = Array.from(m.diameters).filter((d) => d === Number(size)).length
    if (needed > left) out.push(`${needed} markers of ${size} mm are needed, ${left} are left in the box.`)
  }
  return out
}

const percent = (x: number) => (x > 0 && x < 0.01 ? 'under 1 %' : `${Math.round(100 * x)} %`)
