import { checkCancelled, type RunContext } from '../base/run.ts'
import type { GrowingSurface } from './surface.ts'
import { PATCH } from './patch.ts'

export interface NextView {
  /** where the scanner is to be, mm, and where it is to look, unit */
  at: [number, number, number]
  looks: [number, number, number]
  /** of what it would show: share that ends in the open (the rest was seen too seldom), and how many places */
  open: number
  gain: number
}

export interface NextViewOptions {
  /** working distance of the scanner, mm */
  range: { near: number; ideal: number; far: number }
  /** half of the angle it sees, rad. Default 0.3 */
  half?: number
  /** views that are wanted, at the most. Default 5 */
  most?: number
  /** frames in which a place is to be seen. Default 6 */
  enough?: number
  /** whether the scanner can be there, mm */
  reachable?: (x: number, y: number, z: number) => boolean
  /** places that matter, mm. Default: all */
  counts?: (x: number, y: number, z: number) => boolean
  /** the only views there are: of a turntable */
  stands?: readonly Pick<NextView, 'at' | 'looks'>[]
}

export interface NextViews {
  /** the one that is worth most first; each counts only what those before it do not show */
  views: NextView[]
  /** places that end in the open or were seen too seldom, and those of them that no view found here would show */
  poor: number
  never: number
}

/** directions in the plane of a place, and how many of them side by side must lead nowhere */
const ROUND = 8
const OPEN = 3
/** cubes along such a direction, and off the plane, in which the surface may go on */
const ALONG = [1, 2]
const OFF = [-2, -1, 0, 1, 2]
/** places that are looked at, at the most: of more every so-manieth */
const ASKED = 20_000
/** what ends in the open is looked at from so far beyond its end: 35 degrees */
const BEYOND = 0.7
/** cosine of the angle at which a place is still seen well */
const STEEP = 0.5
const CANDIDATES = 48
/** places seen seldom that one end in the open is worth: a face as wide as some centimetres lies behind it */
const AN_END = 10
/** a view that shows less than this share of what the first one does is none */
const LEAST = 0.08

/** ms after which the host is let in */
const TURN = 10

interface Poor {
  at: number[]
  /** from where it is to be seen, unit */
  from: number[]
  open: boolean
}

/**
 * From where a part should be seen next: places whose surface ends in the open (none of the cubes goes on there, neither in its plane nor round an edge), and those seen
 * in too few frames, are put together by where they lie and from where they want to be seen; of the views of these groups the ones that show most are taken, one after
 * the other (greedy cover, Nemhauser, Wolsey and Fisher 1978: within 1 - 1/e of the best). What is hidden by surface that is known does not count. Knows nothing of what
 * lies behind an end: it is asked again when that was seen. Lengths in mm. Lets the host in; can be cancelled.
 */
export async function nextViews(surface: GrowingSurface, o: NextViewOptions, ctx: RunContext): Promise<NextViews> {
  let began = performance.now()
  const turn = async () => {
    if (performance.now() - began < TURN) return
    checkCancelled(ctx)
    await new Promise((resolve) => setTimeout(resolve))
    began = performance.now()
  }
  const { poor, every } = await poorPlaces(surface, o.enough ?? 6, o.counts, turn)
  const half = Math.cos(o.half ?? 0.3)
  const sees = ({ at, looks }: Pick<NextView, 'at' | 'looks'>, { at: p, from }: Poor): boolean => {
    const w = [at[0] - p[0], at[1] - p[1], at[2] - p[2]]
    const d = Math.hypot(w[0], w[1], w[2])
    if (d < o.range.near || d > o.range.far) return false
    if (-(w[0] * looks[0] + w[1] * looks[1] + w[2] * looks[2]) < half * d) return false
    if (w[0] * from[0] + w[1] * from[1] + w[2] * from[2] < STEEP * d) return false
    return surface.hiddenBy(p[0], p[1], p[2], at[0], at[1], at[2], 3 * surface.side, d, 2) < 0
  }
  const left = new Set(poor.map((_, i) => i))
  const shown: { view: Pick<NextView, 'at' | 'looks'>; places: number[] }[] = []
  for (const view of o.stands ?? candidates(poor, o)) {
    const places: number[] = []
    for (let i = 0; i < poor.length; i++) {
      if (sees(view, poor[i])) places.push(i)
      if (i % 64 === 0) await turn()
    }
    shown.push({ view, places })
  }
  const seen = new Set(shown.flatMap((s) => s.places))
  const views: NextView[] = []
  const worth = (places: number[]) => places.reduce((s, i) => s + (poor[i].open ? AN_END : 1), 0)
  let most = 0
  while (views.length < (o.most ?? 5)) {
    let best: { view: Pick<NextView, 'at' | 'looks'>; places: number[]; worth: number } | undefined
    for (const { view, places } of shown) {
      const gained = places.filter((i) => left.has(i))
      const w = worth(gained)
      if (w > (best?.worth ?? 0)) best = { view, places: gained, worth: w }
    }
    if (!best || best.worth < LEAST * most) break
    most ||= best.worth
    views.push({ ...best.view, gain: every * best.places.length, open: best.places.filter((i) => poor[i].open).length / best.places.length })
    for (const i of best.places) left.delete(i)
  }
  return { views, poor: every * poor.length, never: every * (poor.length - seen.size) }
}

/** every: one place in so many was looked at. */
async function poorPlaces(
  surface: GrowingSurface,
  enough: number,
  counts: NextViewOptions['counts'],
  turn: () => Promise<void>,
): Promise<{ poor: Poor[]; every: number }> {
  const count = surface.cubes()
  const every = Math.max(1, Math.ceil(count / ASKED))
  const place = new Float32Array(6)
  const patch = new Float64Array(PATCH)
  const out: Poor[] = []
  for (let k = 0, n = 0; k < count; k += every, n++) {
    if (n % 64 === 0) await turn()
    if (!surface.pointsIn(k)) continue
    surface.middleOf(k, place, 0)
    if (counts && !counts(place[0], place[1], place[2])) continue
    if (!surface.patchAt(place[0], place[1], place[2], place[3], place[4], place[5], patch)) continue
    const at = Array.from(place.subarray(0, 3))
    const normal = Array.from(patch.subarray(3, 6))
    const end = openEnd(surface, at, normal)
    if (end) out.push({ at, from: unit(normal.map((v, i) => v + BEYOND * end[i])), open: true })
    else if (surface.seenIn(k) < enough) out.push({ at, from: normal, open: false })
  }
  return { poor: out, every }
}

/** The direction in which the surface at a place ends in the open, unit; undefined where it goes on all round. */
function openEnd(surface: GrowingSurface, p: number[], n: number[]): number[] | undefined {
  const { side } = surface
  const a = unit(cross(n, Math.abs(n[2]) < 0.9 ? [0, 0, 1] : [1, 0, 0]))
  const b = cross(n, a)
  const open: boolean[] = []
  const ways: number[][] = []
  for (let r = 0; r < ROUND; r++) {
    const [c, s] = [Math.cos((2 * Math.PI * r) / ROUND), Math.sin((2 * Math.PI * r) / ROUND)]
    const t = a.map((v, i) => c * v + s * b[i])
    ways.push(t)
    open.push(!ALONG.some((x) => OFF.some((h) => goesOn(surface, p, t, n, x * side, h * side))))
  }
  // the longest run of them, round the corner of the list as well
  let best = { from: 0, length: 0 }
  for (let from = 0; from < ROUND; from++) {
    let length = 0
    while (length < ROUND && open[(from + length) % ROUND]) length++
    if (length > best.length) best = { from, length }
  }
  // alone in the open: a stray
  if (best.length < OPEN || best.length === ROUND) return undefined
  const sum = [0, 0, 0]
  for (let r = 0; r < best.length; r++) ways[(best.from + r) % ROUND].forEach((v, i) => (sum[i] += v))
  return unit(sum)
}

function goesOn(surface: GrowingSurface, p: number[], t: number[], n: number[], x: number, h: number): boolean {
  const k = surface.cubeAt(p[0] + x * t[0] + h * n[0], p[1] + x * t[1] + h * n[1], p[2] + x * t[2] + h * n[2], n[0], n[1], n[2])
  return k >= 0 && surface.pointsIn(k) > 0
}

/** Views of groups of places that lie together and want to be seen from about the same side. */
function candidates(poor: Poor[], o: NextViewOptions): Pick<NextView, 'at' | 'looks'>[] {
  const cell = 0.6 * o.range.ideal * Math.tan(o.half ?? 0.3)
  const groups = new Map<string, Poor[]>()
  for (const p of poor) {
    const key = [...p.at.map((v) => Math.floor(v / cell)), ...p.from.map((v) => Math.round(1.3 * v))].join(' ')
    const list = groups.get(key)
    if (list) list.push(p)
    else groups.set(key, [p])
  }
  return [...groups.values()]
    .sort((x, y) => y.length - x.length)
    .slice(0, CANDIDATES)
    .flatMap((list) => {
      const middle = [0, 1, 2].map((i) => list.reduce((s, p) => s + p.at[i], 0) / list.length)
      const from = unit([0, 1, 2].map((i) => list.reduce((s, p) => s + p.from[i], 0)))
      // where a hand cannot be, from further above
      for (const up of [0, 0.5, 1, 2]) {
        const d = unit([from[0], from[1], from[2] + up])
        const [x, y, z] = middle.map((v, i) => v + o.range.ideal * d[i])
        if (o.reachable && !o.reachable(x, y, z)) continue
        return [{ at: [x, y, z] as [number, number, number], looks: d.map((v) => -v) as [number, number, number] }]
      }
      return []
    })
}

const cross = (a: number[], b: number[]) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
function unit(v: number[]): number[] {
  const l = Math.hypot(v[0], v[1], v[2]) || 1
  return v.map((x) => x / l)
}
