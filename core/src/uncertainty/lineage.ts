import type { Contribution } from './contribution.ts'
import type { PoseUncertainty } from './pose.ts'
import { scannerUncertainty, type DistanceError } from './scanner.ts'

/** A step that ran before, as a ledger or a recipe knows it; slots name what it took and made. */
export interface Ran {
  operation: string
  inputs: Record<string, readonly string[]>
  outputs: Record<string, readonly string[]>
  evidence: {
    quantities: readonly { id: string; value: number | string }[]
    poses?: readonly PoseUncertainty[]
  } | null
  /** of a file that was brought in: what was known of the scanner then */
  recordedWith?: { distance?: DistanceError | null } | null
}

/** What the steps that led to an item tell of its uncertainty. */
export interface LineageFigures {
  /** standard, mm */
  scanner: Contribution['u']
  /** how well the frames were held of which a pass was made, the worst pass, standard, mm; null where passes came as they are */
  frames: Contribution['u'] | null
  /** of the passes against one another; empty where there was nothing to align */
  alignment: PoseUncertainty[] | 'unknown'
  /** of the part on its nominal */
  placing: PoseUncertainty | 'unknown'
}

/** Steps that bring a pass in: a whole one, or the frames it is made of. */
const BROUGHT = ['import', 'solve-recording']
/** Ports whose items a result is compared with, not made of. */
const BESIDE = new Set(['nominal', 'plan', 'known', 'from'])
const MOVING = ['align-pairs', 'align-shape', 'align-fine', 'join-markers']

/** Steps that led to any of these slots, in order. */
export function lineage<S extends Ran>(steps: readonly S[], slots: readonly string[]): S[] {
  const wanted = new Set(slots)
  const out: S[] = []
  for (const s of [...steps].reverse()) {
    if (
      !Object.values(s.outputs)
        .flat()
        .some((slot) => wanted.has(slot))
    )
      continue
    out.push(s)
    for (const [port, list] of Object.entries(s.inputs)) if (!BESIDE.has(port)) for (const slot of list) wanted.add(slot)
  }
  return out.reverse()
}

/** Error of the joint adjustment, mm, that the merge of these passes must not be finer than; undefined where there was none. */
export function alignmentError(steps: readonly Ran[], slots: readonly string[]): number | 'unknown' | undefined {
  const adjusted = lineage(steps, slots).findLast((s) => s.operation === 'adjust')
  const error = adjusted?.evidence?.quantities.find((q) => q.id === 'alignment-worst-pass')?.value
  return error === 'unknown' || (typeof error === 'number' && Number.isFinite(error)) ? error : undefined
}

/** What the steps before tell of the uncertainty of a measured item, by its slot. */
export function lineageFigures(steps: readonly Ran[], slot: string): LineageFigures {
  const path = lineage(steps, [slot])
  const placed = path.findLast((s) => s.operation === 'best-fit')
  return { scanner: ofScanner(path), frames: framesHeld(path), alignment: ofAlignment(path), placing: placed?.evidence?.poses?.[0] ?? 'unknown' }
}

function ofScanner(path: readonly Ran[]): Contribution['u'] {
  const brought = path.filter((s) => BROUGHT.includes(s.operation))
  if (!brought.length) return 'unknown'
  let worst = 0
  for (const s of brought) {
    if (!s.recordedWith?.distance) return 'unknown'
    worst = Math.max(worst, scannerUncertainty(s.recordedWith.distance))
  }
  return worst
}

/**
 * How well the frames were held of which the passes of these steps were made, standard, mm. The median of a pass, of the pass where that is the largest: a place
 * is seen by several frames. Their errors go together (one map, a way that drifts), so it does not shrink with their number. Along what a print alone held either end
 * lies off the middle by half of what the ends are known to one another.
 */
export function framesHeld(steps: readonly Ran[]): LineageFigures['frames'] {
  const solved = steps.filter((s) => s.operation === 'solve-recording')
  if (!solved.length) return null
  const each = solved.map(({ evidence }) => {
    const of = (id: string) => evidence?.quantities.find((x) => x.id === id)?.value
    return Math.hypot(Number(of('frame-sigma-median') ?? NaN), Number(of('stretch-by-print') ?? 0) / 2)
  })
  return each.every(Number.isFinite) ? Math.max(...each) : 'unknown'
}

/** How well a recorded pass lies in the axes of its setup; covariance null where those axes are its own. Null where the steps do not say it. */
export function passHeld(steps: readonly Ran[]): Pick<PoseUncertainty, 'about' | 'covariance'> | null {
  const solved = steps.filter((s) => s.operation === 'solve-recording')
  const pose = solved.length === 1 ? solved[0].evidence?.poses?.[0] : undefined
  return pose ? { about: [...pose.about], covariance: pose.covariance && [...pose.covariance] } : null
}

function ofAlignment(path: readonly Ran[]): LineageFigures['alignment'] {
  const merged = path.findLast((s) => s.operation === 'merge')
  // a mesh that came as one, or one pass: how it was made belongs to the scanner
  if ((merged?.inputs['passes']?.length ?? 1) < 2) return []
  const at = path.findLastIndex((s) => s.operation === 'adjust')
  // what was moved after the adjustment is no longer where it was found to be
  if (at < 0 || path.slice(at + 1).some((s) => MOVING.includes(s.operation))) return 'unknown'
  const { evidence, inputs } = path[at]
  const adjusted = new Set(inputs['passes'])
  if (!evidence || merged?.inputs['passes']?.some((slot) => !adjusted.has(slot))) return 'unknown'
  if (evidence.poses) return [...evidence.poses]
  // adjustments of before this was written down: the worst pass stands for all
  const error = evidence.quantities.find((q) => q.id === 'alignment-worst-pass')?.value
  if (typeof error !== 'number') return 'unknown'
  return [{ of: 'the worst pass', about: [0, 0, 0], covariance: Array.from({ length: 36 }, (_, k) => (k % 7 === 0 && k > 20 ? error * error : 0)) }]
}
