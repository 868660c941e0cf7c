import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { decide } from '../inspect/decision.ts'
import { fieldAround } from '../inspect/flag.ts'
import { defineOperation, q, type Field, type Item } from './operation.ts'

export const flag = defineOperation({
  name: 'flag',
  version: 2,
  title: 'Flag',
  about: 'Says how far the part deviates at one picked spot: the mean over a small patch, with its uncertainty.',
  params: z.object({
    at: z.tuple([z.number(), z.number(), z.number()]).describe('Picked spot, mm in the job.'),
    radius: z.number().positive().default(0.8).describe('Radius of the patch, mm.'),
    label: z.string().max(60).default('').describe('What the spot is called.'),
    limit: z.number().positive().default(0.1).describe('Fine inside plus / minus this, mm.'),
    alignmentError: z
      .union([z.number().nonnegative(), z.literal('unknown')])
      .default(0)
      .describe('Error of the joint adjustment, mm, or unknown; taken from the ledger.'),
  }),
  inputs: {
    field: { kinds: ['field'], about: 'the deviation' },
    on: { kinds: ['mesh', 'points'], about: 'the measured part' },
  },
  outputs: {},
  run(inputs, params) {
    const [field] = inputs['field'] as Item<Field>[]
    const [on] = inputs['on'] as Item[]
    if (on.data.kind === 'field' || on.data.kind === 'markers') throw new OakError('wrong-input', 'A flag stands on a mesh or on points.')
    const f = fieldAround(field.data.values, on.data, on.pose, params.at, params.radius)
    const parts = [f.standardError, params.alignmentError]
    const known = parts.filter((p) => p !== 'unknown')
    // a part that is not known makes the whole unknown
    const u = known.length < parts.length ? 'unknown' : 2 * Math.hypot(...known)
    const verdict = decide(f.mean, params.limit, u)
    const words = verdict === 'pass' ? 'within limits' : verdict === 'fail' ? (f.mean > 0 ? 'extra' : 'missing') : 'not decidable'
    const warnings: string[] = []
    if (f.standardError === 'unknown') warnings.push('Only one value lies in the patch: how far it scatters is not known. Choose a larger patch.')
    if (params.alignmentError === 'unknown') warnings.push('The error of the alignment is not known, since nothing holds some passes: see Align.')
    if (u !== 'unknown' && verdict === 'not decidable') warnings.push('The limit lies within the uncertainty here: not decidable with this scan (ISO 14253-1).')
    return Promise.resolve({
      outputs: {},
      evidence: {
        quantities: [
          q('deviation', f.mean, 'mm', params.label || undefined, u === 'unknown' ? undefined : u),
          q('verdict', words),
          q('places averaged', f.count),
          q('spread in the patch', f.spread, 'mm'),
          q('x', params.at[0], 'mm'),
          q('y', params.at[1], 'mm'),
          q('z', params.at[2], 'mm'),
        ],
        warnings,
      },
    })
  },
})
