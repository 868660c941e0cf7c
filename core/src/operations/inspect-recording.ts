import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { transformMesh, type Mesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'
import { identity } from '../base/mat4.ts'
import { inspectedQuantities, inspectPass } from './inspect-pass.ts'
import { defineOperation, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const inspectRecordingOperation = defineOperation({
  name: 'inspect-recording',
  version: 2,
  title: 'Look what a recording came to',
  stage: 'Capture',
  shows: ['covered', 'foretold-u', 'faces-decidable'],
  about:
    'Merges, lays and compares one recorded pass as a rehearsal does with what it foretells: what of the nominal is covered, and how well each face is known. Nothing is moved.',
  params: z.object({
    spacing: z.number().min(0.1).max(20).default(1).describe('Covered is what has measured surface within two of these, mm.'),
    limit: z.number().positive().default(0.1).describe('Tolerance: fine inside plus / minus this, mm.'),
    distance: z.object({ error: z.number(), U: z.number().nonnegative() }).nullable().default(null).describe('Verified distance error of the scanner, mm.'),
    held: z
      .union([z.number().nonnegative(), z.literal('unknown')])
      .nullable()
      .default(null)
      .describe('How well its frames were held, standard, mm; taken from the ledger.'),
    byShape: z.boolean().default(true).describe('Where the pass lies on the nominal is found by its shape first.'),
  }),
  inputs: {
    pass: { kinds: ['points'], about: 'the recorded pass' },
    nominal: { kinds: ['mesh'], about: 'the nominal' },
  },
  outputs: {},
  async run(inputs, params, ctx) {
    const [pass] = inputs['pass'] as Item<Points>[]
    const [nominal] = inputs['nominal'] as Item<Mesh>[]
    if (!pass.data.xyz.length) throw new OakError('empty', `${pass.name} has no points.`, { remedy: 'Choose another pass.' })
    const part = transformMesh(nominal.data, nominal.pose)
    const f = await inspectPass(pass.data, pass.pose ?? identity(), part, params, ctx)
    return { outputs: {}, evidence: { quantities: [...inspectedQuantities(f, params.limit), q('deviation-rms', f.rms)], warnings: [], faces: f.faces } }
  },
})
