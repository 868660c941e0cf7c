import { motionWords } from '../align/freemotion.ts'
import type { JointResult } from '../align/jointreport.ts'
import type { Evidence } from './operation.ts'
import { q } from './quantities.ts'

/** Departures of so many standard deviations from a recorded pose are doubtful. */
const FAR = 5

/** Numbers of an adjustment for the ledger: the whole first, then each pass, then each pair. */
export function alignmentEvidence(r: JointResult, names: string[]): Evidence {
  const quantities = [
    q('alignment-worst-pass', Number.isFinite(r.error) ? r.error : 'unknown'),
    q('gap-between-passes-rms', r.rms),
    q('gap-between-passes-largest', r.largest),
  ]
  const warnings: string[] = [...(r.doubts ?? [])]
  if (r.markers.count) quantities.push(q('markers-in-common', r.markers.count), q('markers-rms', r.markers.rms), q('markers-largest', r.markers.largest))
  // the passes are then torn between surface and markers
  const torn = r.contradiction !== undefined
  if (torn)
    warnings.push(
      `Surface and markers contradict each other: they want the setups ${r.contradiction?.toPrecision(2)} mm apart. Look whether the markers sat on the part, or stayed on the table when it was turned.`,
    )
  for (const p of r.passes) {
    const name = names[p.pass]
    quantities.push(q('gap-rms', p.rms, { of: name }), q('gap-largest', p.largest, { of: name }), q('moved', p.moved, { of: name }))
    if (!torn && p.departed > FAR)
      warnings.push(
        `${name} left the place it was recorded at by ${p.departed.toFixed(0)} times what the scanner’s tracking is usually off: look whether the part was moved, or tracking was lost.`,
      )
    if (p.sigma > 0 && Number.isFinite(p.sigma)) quantities.push(q('pose', p.sigma, { of: name }))
  }
  for (const p of r.pairs) {
    const of = `${names[p.a]} with ${names[p.b]}`
    quantities.push(q('pair-rms', p.rms, { of }), q('pair-mean', p.mean, { of }), q('pair-largest', p.largest, { of }))
  }
  const byGroup = new Map<string, string[]>()
  for (const f of r.free) {
    const of = f.passes.map((i) => names[i]).join(', ')
    byGroup.set(of, [...(byGroup.get(of) ?? []), motionWords(f)])
  }
  for (const [of, motions] of byGroup)
    warnings.push(
      `${of}: what they share with the rest does not hold them, they can ${motions.join(', ')}. Record a pass that sees more of both sides, or place markers.`,
    )
  for (const i of r.apart) warnings.push(`${names[i]} shares no surface with the anchor side: it was left where it is.`)
  return {
    quantities,
    histogram: histogramOf(r.gaps, 4 * r.rms || 0.01, 'mm'),
    warnings,
    poses: r.passes.map((p) => p.pose),
    motions: r.free.map(({ passes, ...m }) => ({ ...m, of: passes.map((i) => names[i]) })),
  }
}

export function histogramOf(values: ArrayLike<number>, half: number, unit: string, weights?: ArrayLike<number>, bins = 40): NonNullable<Evidence['histogram']> {
  const edges = Array.from({ length: bins + 1 }, (_, i) => -half + (2 * half * i) / bins)
  const shares = new Array<number>(bins).fill(0)
  let total = 0
  for (let i = 0; i < values.length; i++) {
    const v = values[i]
    if (Number.isNaN(v)) continue
    const w = weights ? weights[i] : 1
    total += w
    shares[Math.max(0, Math.min(bins - 1, Math.floor(((v + half) / (2 * half)) * bins)))] += w
  }
  return { edges, shares: shares.map((s) => (total ? s / total : 0)), unit }
}
