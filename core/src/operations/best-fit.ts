import { z } from 'zod'
import { motionWords } from '../align/freemotion.ts'
import { bestFit } from '../datum/bestfit.ts'
import { defineOperation, meshesOf } from './operation.ts'
import { q } from './quantities.ts'

export const bestFitOperation = defineOperation({
  name: 'best-fit',
  version: 3,
  title: 'Best fit to the nominal',
  stage: 'Datum',
  shows: ['best-fit-rms', 'free-directions'],
  about: 'Lays the measured part on its nominal so that the distances are least, counting only the chosen faces.',
  params: z.object({
    faces: z.array(z.number().int().min(0)).default([]).describe('Numbers of the nominal’s faces that count; none chosen: all.'),
    byShape: z.boolean().default(true).describe('Find the rough pose by shape first.'),
    robust: z.boolean().default(true).describe('Leave out what deviates more than the rest.'),
    reach: z.number().positive().optional().describe('Surface further away takes no part, mm. Default: 5 % of the part.'),
  }),
  inputs: {
    measured: { kinds: ['mesh', 'points'], about: 'the measured part' },
    nominal: { kinds: ['mesh'], about: 'the nominal, stays put' },
  },
  outputs: { measured: { kind: 'mesh', replaces: 'measured', about: 'the measured part in the nominal’s coordinates' } },
  async run(inputs, params, ctx) {
    const [measured] = meshesOf(inputs, 'measured')
    const [nominal] = meshesOf(inputs, 'nominal')
    const r = await bestFit(
      measured,
      nominal,
      { faces: params.faces, byShape: params.byShape, robust: params.robust, ...(params.reach ? { reach: params.reach } : {}) },
      ctx,
    )
    const warnings = r.free.length ? [`Not held by the chosen faces: ${r.free.map(motionWords).join(', ')}. Along these it was left where it was.`] : []
    if (r.ambiguous) warnings.push('The shape fits nearly as well another way round: check the pose.')
    return {
      outputs: { measured: [{ ...measured, pose: r.pose }] },
      evidence: {
        quantities: [
          q('best-fit-rms', r.rms),
          q('best-fit-mean', r.mean),
          q('places-used', (100 * r.used) / r.total),
          q('free-directions', r.free.length ? r.free.map(motionWords).join('; ') : 'none'),
        ],
        warnings,
        poses: [r.placing],
        motions: r.free.map((m) => ({ ...m, of: [measured.name] })),
      },
    }
  },
})
