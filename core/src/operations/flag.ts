import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { fieldAround } from '../inspect/flag.ts'
import { defineOperation, q, type Field, type Item } from './operation.ts'

export const flag = defineOperation({
  name: 'flag',
  version: 1,
  title: 'Flag',
  about: 'Says how far the part deviates at one picked spot: the mean over a small patch, with its uncertainty.',
  params: z.object({
    at: z.tuple([z.number(), z.number(), z.number()]).describe('Picked spot, mm in the job.'),
    radius: z.number().positive().default(0.8).describe('Radius of the patch, mm.'),
    label: z.string().max(60).default('').describe('What the spot is called.'),
    limit: z.number().positive().default(0.1).describe('Fine inside plus / minus this, mm.'),
    alignmentError: z.number().nonnegative().default(0).describe('Error of the joint adjustment, mm; taken from the ledger.'),
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
    const u = 2 * Math.hypot(f.standardError, params.alignmentError)
    const words = Math.abs(f.mean) <= params.limit ? 'within limits' : f.mean > 0 ? 'extra' : 'missing'
    return Promise.resolve({
      outputs: {},
      evidence: {
        quantities: [
          q('deviation', f.mean, 'mm', params.label || undefined, u),
          q('verdict', words),
          q('places averaged', f.count),
          q('spread in the patch', f.spread, 'mm'),
          q('x', params.at[0], 'mm'),
          q('y', params.at[1], 'mm'),
          q('z', params.at[2], 'mm'),
        ],
        warnings:
          Math.abs(Math.abs(f.mean) - params.limit) < u ? ['The limit lies within the uncertainty here: not decidable with this scan (ISO 14253-1).'] : [],
      },
    })
  },
})
