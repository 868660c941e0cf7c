import { checkCancelled, type RunContext } from '../../base/run.ts'
import { findLookAlikes } from '../lookalike.ts'
import { makeMarkers, PERCHES, type Markers } from '../markers.ts'
import { judgePlan, type PlanVerdict } from './judge.ts'
import { planStands, SEEN, sees, type PlanScene, type View } from './scene.ts'
import { aroundSites, FLAT, partSites, type KeepClear, type Site, type Sizes } from './sites.ts'

export interface PlanOptions {
  /** where markers may go. Default both */
  where: 'part' | 'around' | 'both'
  sizes: Sizes
  /** fewest that keep tracking alive; 4 (common practice, no source) */
  least: number
  /** comfortable; 6 (common practice, no source) */
  wanted: number
  /** mm between markers: 50 (common practice, no source: 50 to 75, three fingers) */
  spacing: number
  /** mm from edges: 25 (common practice, no source) */
  clearEdge: number
  keepClear: readonly KeepClear[]
  /** faces of a nominal that stay free */
  keepFaces: readonly number[]
  blocks: boolean
  towers: boolean
  /** directions needed: 'above' the table, or 'all' when the part is held in the hand */
  from: 'above' | 'all'
  stock?: Record<string, number>
  /** markers that stay where they are: stuck already, or placed by hand */
  fixed?: { positions: ArrayLike<number>; normals: ArrayLike<number>; diameters: ArrayLike<number>; perch: ArrayLike<number>; ids: readonly string[] }
  /** propose more than the fixed ones. Default true */
  propose?: boolean
}

export interface Plan {
  markers: Markers
  verdict: PlanVerdict
  directions: Float64Array
  warnings: string[]
}

/** what a perch costs beside a marker stuck on the part: blocks and towers are trouble */
const COST = { part: 1, table: 1, 'block-30': 1.25, 'block-45': 1.3, tower: 1.7 } as const
/** spacing is given up in steps where there is no room */
const CLOSER = [1, 0.75, 0.55, 0.4]

/**
 * Fewest markers such that from every direction needed at least the wanted number is seen: sites on the part and around it, for each the
 * stands that see it (size, incidence, field of view, distance, what hides it), then a greedy multi-cover (Dobson 1982) and a pass that
 * drops what turned out needless. A site that would make two groups look alike is passed over. Deterministic. Throws 'no-shape', 'cancelled'.
 * The fewest is not proven: greedy covers are within the logarithm of the best (Chvatal 1979).
 */
export function planMarkers(scene: PlanScene, view: View, o: PlanOptions, ctx: RunContext): Plan {
  ctx.progress(0.02, 'looking from all sides')
  const { stands, directions } = planStands(scene, view, o.from)
  checkCancelled(ctx)
  ctx.progress(0.15, 'looking for room')
  const sites: Site[] = []
  for (let i = 0; i < (o.fixed?.diameters.length ?? 0); i++) sites.push(fixedSite(o.fixed, i))
  const fixed = sites.length
  if (o.propose !== false) {
    if (o.where !== 'around')
      sites.push(...partSites(scene, { sizes: o.sizes, clearEdge: o.clearEdge, keepClear: o.keepClear, keepFaces: new Set(o.keepFaces) }))
    if (o.where !== 'part') sites.push(...aroundSites(scene, { sizes: o.sizes, blocks: o.blocks, towers: o.towers }))
  }
  checkCancelled(ctx)
  const visible = sites.map((s, i) => {
    if (i % 40 === 0) {
      checkCancelled(ctx)
      ctx.progress(0.2 + (0.55 * i) / sites.length, 'what is seen from where')
    }
    const list: number[] = []
    stands.forEach((stand, v) => {
      if (sees(scene, view, stand, s.place, s.normal, s.diameter) === SEEN) list.push(v)
    })
    return list
  })
  ctx.progress(0.78, 'choosing')
  const chosen = choose(sites, visible, stands.length, fixed, o, ctx)
  checkCancelled(ctx)
  const kept = fixedFirst(chosen, fixed, sites)
  const markers = makeMarkers({
    ids: namesFor(o, fixed, kept.length),
    positions: kept.flatMap((i) => sites[i].place),
    normals: kept.flatMap((i) => sites[i].normal),
    diameters: kept.map((i) => sites[i].diameter),
    perch: kept.map((i) => PERCHES.indexOf(sites[i].perch)),
  })
  ctx.progress(0.93, 'looking at it from all sides')
  const verdict = judgePlan(scene, view, stands, directions, markers, {
    least: o.least,
    wanted: o.wanted,
    turns: o.from === 'all',
    ...(o.stock ? { stock: o.stock } : {}),
  })
  const near = kept.filter((i) => sites[i].perch === 'part' && sites[i].clear < o.clearEdge)
  const warnings = [...verdict.warnings]
  if (near.length) {
    const least = Math.min(...near.map((i) => sites[i].clear))
    warnings.push(
      `${near.length} markers lie nearer than ${o.clearEdge} mm to an edge (least ${least.toFixed(1)} mm): the part leaves no other room. They may leave a bump or a gap there.`,
    )
  }
  if (o.propose !== false && verdict.lookAlikes.length) warnings.push('Some groups look alike: move one marker of each by a centimetre.')
  return { markers, verdict, directions, warnings }
}

function fixedSite(f: PlanOptions['fixed'], i: number): Site {
  const three = (a: ArrayLike<number> | undefined): [number, number, number] => [a?.[3 * i] ?? 0, a?.[3 * i + 1] ?? 0, a?.[3 * i + 2] ?? 0]
  return { place: three(f?.positions), normal: three(f?.normals), diameter: f?.diameters[i] ?? 6, perch: PERCHES[f?.perch[i] ?? 0], clear: Infinity, bend: 0 }
}

/** Fixed ones first, then from the top down and round, so that neighbours have neighbouring numbers. */
function fixedFirst(chosen: number[], fixed: number, sites: Site[]): number[] {
  const own = chosen.filter((i) => i >= fixed)
  const angle = (i: number) => Math.atan2(sites[i].place[1], sites[i].place[0])
  own.sort((a, b) => PERCHES.indexOf(sites[a].perch) - PERCHES.indexOf(sites[b].perch) || angle(a) - angle(b))
  return [...Array.from({ length: fixed }, (_, i) => i), ...own]
}

function namesFor(o: PlanOptions, fixed: number, total: number): string[] {
  const ids = o.fixed ? [...o.fixed.ids] : []
  let next = 1
  while (ids.length < total) {
    while (ids.includes(String(next))) next++
    ids.push(String(next))
  }
  return ids.slice(0, Math.max(fixed, total))
}

function choose(sites: Site[], visible: number[][], stands: number, fixed: number, o: PlanOptions, ctx: RunContext): number[] {
  const seen = new Int32Array(stands)
  const chosen: number[] = []
  const take = (i: number) => {
    chosen.push(i)
    for (const v of visible[i]) seen[v]++
  }
  for (let i = 0; i < fixed; i++) take(i)
  const passed = new Uint8Array(sites.length)
  // what one more marker is worth in a view that has so many: below the least most, beyond the wanted nothing
  const worth = (n: number) => (n < o.least ? 4 : n < o.wanted ? 1 : 0)
  const quality = (s: Site) => (s.perch !== 'part' ? 1 : (s.clear >= o.clearEdge ? 1 : 0.25 + (0.6 * s.clear) / o.clearEdge) * (1 - (0.5 * s.bend) / FLAT))
  for (const closer of CLOSER) {
    for (;;) {
      if (chosen.length % 8 === 0) checkCancelled(ctx)
      let best = -1
      let most = 0
      for (let i = fixed; i < sites.length; i++) {
        if (passed[i] || chosen.includes(i)) continue
        let gain = 0
        for (const v of visible[i]) gain += worth(seen[v])
        gain *= quality(sites[i]) / COST[sites[i].perch]
        if (gain <= most || tooNear(sites, chosen, i, closer * o.spacing)) continue
        most = gain
        best = i
      }
      if (best < 0 || most < Math.max(2, 0.006 * stands)) break
      if (looksAlike(sites, chosen, best)) {
        passed[best] = 1
        continue
      }
      take(best)
      if (chosen.length > 400) return chosen
    }
  }
  // what the later ones made needless goes again, the least seen first
  const order = chosen.slice(fixed).sort((a, b) => visible[a].length - visible[b].length)
  const kept = new Set(chosen)
  for (const i of order) {
    if (!visible[i].every((v) => seen[v] > o.wanted)) continue
    kept.delete(i)
    for (const v of visible[i]) seen[v]--
  }
  return chosen.filter((i) => kept.has(i))
}

function tooNear(sites: Site[], chosen: number[], i: number, spacing: number): boolean {
  const p = sites[i].place
  return chosen.some((c) => {
    const q = sites[c].place
    return (p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 + (p[2] - q[2]) ** 2 < spacing * spacing
  })
}

/** Would one more marker there make two groups around it look alike? Only its surroundings are looked at. */
function looksAlike(sites: Site[], chosen: number[], i: number): boolean {
  const all = [...chosen, i].map((c) => sites[c])
  const groups = findLookAlikes(
    all.flatMap((s) => s.place),
    all.map((s) => s.diameter),
    { tolerance: 1 },
  )
  const last = all.length - 1
  return groups.some((g) => g.one.includes(last) || g.other.includes(last))
}
