import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { invertRigid, rotateVector, transformPoint } from '../base/mat4.ts'
import { triangleAreas, type Mesh } from '../shape/mesh.ts'
import { boundingBox, boxDiagonal, type Points } from '../shape/points.ts'
import { pointSpacing } from '../shape/spacing.ts'
import { chordUncertainty } from '../uncertainty/chord.ts'
import { combined, COVERAGE, SOURCES, withStated, type Contribution } from '../uncertainty/contribution.ts'
import { decide } from '../uncertainty/decision.ts'
import { patchMean, type Patch } from '../uncertainty/patch.ts'
import { placeUncertainty, worstPlaceUncertainty } from '../uncertainty/pose.ts'
import { defineOperation, type Field, type Item } from './operation.ts'
import { q } from './quantities.ts'

const pose = z.object({
  of: z.string(),
  about: z.array(z.number()).length(3),
  covariance: z.array(z.number()).length(36).nullable(),
  free: z.array(z.array(z.number()).length(6)).optional(),
  box: z.array(z.number()).length(6).optional(),
})
const U = z.number().nonnegative().optional()

export const flag = defineOperation({
  name: 'flag',
  version: 4,
  title: 'Flag',
  stage: 'Inspect',
  sample: { at: [0, 0, 0] },
  about: 'Says how far the part deviates at one picked spot: the mean over a small patch, with its uncertainty, and whether that is within limits.',
  params: z.object({
    at: z.tuple([z.number(), z.number(), z.number()]).describe('Picked spot, mm in the job.'),
    radius: z.number().positive().optional().describe('Radius of the patch, mm. Default: 0.8, more where the values lie so far apart that few would be in it.'),
    label: z.string().max(60).default('').describe('What the spot is called.'),
    limit: z.number().positive().default(0.1).describe('Fine inside plus / minus this, mm.'),
    stated: z
      .object({ scanner: U, alignment: U, placing: U, nominal: U })
      .default({})
      .describe('Expanded uncertainties (k = 2), mm, that a person answers for where nothing measured them: scanner, alignment, placing, nominal.'),
    lineage: z
      .object({
        scanner: z.union([z.number().nonnegative(), z.literal('unknown')]),
        frames: z
          .union([z.number().nonnegative(), z.literal('unknown')])
          .nullable()
          .default(null),
        alignment: z.union([z.array(pose), z.literal('unknown')]),
        placing: z.union([pose, z.literal('unknown')]),
      })
      .default({ scanner: 'unknown', frames: null, alignment: 'unknown', placing: 'unknown' })
      .describe('What the steps before tell of the uncertainty; taken from the ledger.'),
  }),
  inputs: {
    field: { kinds: ['field'], about: 'the deviation' },
    on: { kinds: ['mesh', 'points'], about: 'the measured part' },
    nominal: { kinds: ['mesh'], optional: true, about: 'the nominal, for what its facets bring' },
  },
  outputs: {},
  run(inputs, params) {
    const [field] = inputs['field'] as Item<Field>[]
    const [on] = inputs['on'] as Item[]
    const [nominal] = (inputs['nominal'] ?? []) as (Item<Mesh> | undefined)[]
    if (on.data.kind === 'field' || on.data.kind === 'markers') throw new OakError('wrong-input', 'A flag stands on a mesh or on points.')
    const radius = params.radius ?? usualRadius(on.data)
    const f = patchMean(field.data.values, on.data, on.pose, params.at, radius)
    const parts = withStated(contributions(f, params, on, nominal), params.stated)
    const u = combined(parts)
    const verdict = decide(f.mean, params.limit, u === 'unknown' ? u : COVERAGE * u)
    const words = verdict === 'pass' ? 'within limits' : verdict === 'fail' ? (f.mean > 0 ? 'extra' : 'missing') : 'not decidable'
    const warnings: string[] = []
    if (f.standardError === 'unknown') warnings.push('Too few values lie in the patch: how far they scatter is not known. Choose a larger patch.')
    for (const p of parts) if (p.u === 'unknown' && p.source !== 'surface') warnings.push(UNKNOWN[p.source])
    if (u !== 'unknown' && verdict === 'not decidable') {
      const largest = parts.reduce((a, b) => (Number(b.u) > Number(a.u) ? b : a))
      warnings.push(`The limit lies within the uncertainty here: not decidable with this scan (ISO 14253-1). Most of it comes from ${SOURCES[largest.source]}.`)
    }
    return Promise.resolve({
      outputs: {},
      evidence: {
        quantities: [
          q('deviation', f.mean, { u, parts, ...(params.label ? { of: params.label } : {}) }),
          q('verdict', words),
          q('places-averaged', f.count),
          q('places-independent', f.independent),
          q('spread-in-the-patch', f.spread),
          q('patch-radius', radius),
          q('x', params.at[0]),
          q('y', params.at[1]),
          q('z', params.at[2]),
        ],
        warnings,
      },
    })
  },
})

/** A patch as a probe of 1.6 mm would feel it; on coarse data as wide as some twenty values need, but never more than a twentieth of the part. */
function usualRadius(d: Mesh | Points): number {
  const xyz = d.kind === 'mesh' ? d.vertices : d.xyz
  const apart = d.kind === 'mesh' ? Math.sqrt(triangleAreas(d).reduce((s, a) => s + a, 0) / Math.max(1, xyz.length / 3)) : pointSpacing(xyz)
  return Math.max(0.8, Math.min(2.5 * apart, boxDiagonal(boundingBox(xyz)) / 20))
}

const UNKNOWN = {
  scanner: 'How far the scanner is off is not known: it was not verified when these passes were brought in. State its uncertainty, or nothing is decidable.',
  frames: 'How well the frames of a recording were held is not known: solve it once more.',
  alignment: 'How far the passes are off is not known: nothing holds some of them, or they were not adjusted together since they were moved. See Align.',
  placing: 'How well the part lies on its nominal here is not known: lay it on by best fit in Datum, with faces that hold it in this direction.',
  nominal: 'Which nominal this is compared with was not said: what its facets bring is not known.',
} as const

interface Lineage {
  at: readonly number[]
  lineage: {
    scanner: Contribution['u']
    frames: Contribution['u'] | null
    alignment: Parameters<typeof worstPlaceUncertainty>[0] | 'unknown'
    placing: Parameters<typeof placeUncertainty>[0] | 'unknown'
  }
}

/** Everything that makes a flag uncertain, each at its place and across the surface there. */
function contributions(f: Patch, { at, lineage }: Lineage, on: Item, nominal: Item<Mesh> | undefined): Contribution[] {
  const n = f.normal
  const back = invertRigid(on.pose)
  // the alignment speaks of the part as it was merged, before it was laid on its nominal
  const own = transformPoint(back, at[0], at[1], at[2])
  const along = n && rotateVector(back, n[0], n[1], n[2])
  const { scanner, frames, alignment, placing } = lineage
  return [
    { source: 'scanner', u: scanner },
    ...(frames === null ? [] : [{ source: 'frames' as const, u: frames }]),
    { source: 'alignment', u: alignment === 'unknown' || !along ? 'unknown' : worstPlaceUncertainty(alignment, own, along) },
    { source: 'placing', u: placing === 'unknown' || !n ? 'unknown' : placeUncertainty(placing, at, n) },
    { source: 'nominal', u: nominal ? chordUncertainty(nominal.data, transformPoint(invertRigid(nominal.pose), at[0], at[1], at[2])) : 'unknown' },
    { source: 'surface', u: f.standardError },
  ]
}
