import { z } from 'zod'
import { multiply } from '../base/mat4.ts'
import { fitRigid } from '../align/pairs.ts'
import { defineOperation, mapsOf, MAPS_ALONG, pointsOf } from './operation.ts'
import { q } from './quantities.ts'

const place = z.tuple([z.number(), z.number(), z.number()])

export const alignPairs = defineOperation({
  name: 'align-pairs',
  version: 1,
  title: 'Align by picked pairs',
  stage: 'Align',
  sample: { pairs: [0, 1, 2].map((k) => [k, k * k, 0] as [number, number, number]).map((at) => ({ loose: at, anchor: at })) },
  about: 'Moves the loose side so that places picked on it fall onto the same places of the anchor side. Rough is enough: fine alignment follows.',
  params: z.object({
    pairs: z
      .array(z.object({ loose: place, anchor: place }))
      .min(3)
      .describe('The same places on both sides, mm in the job.'),
  }),
  inputs: { loose: { kinds: ['points'], many: true, about: 'passes that move together' }, maps: MAPS_ALONG.input },
  outputs: { loose: { kind: 'points', many: true, replaces: 'loose', about: 'moved passes' }, maps: MAPS_ALONG.output },
  run(inputs, { pairs }) {
    const fit = fitRigid(
      pairs.flatMap((p) => p.loose),
      pairs.flatMap((p) => p.anchor),
    )
    const warnings = fit.turnFree ? ['All places lie on one line: the turn about it was not determined. Pick one more to the side.'] : []
    return Promise.resolve({
      outputs: {
        loose: pointsOf(inputs, 'loose').map((p) => ({ ...p, pose: multiply(fit.pose, p.pose) })),
        maps: mapsOf(inputs).map((m) => ({ ...m, pose: multiply(fit.pose, m.pose) })),
      },
      evidence: { quantities: [q('pairs-rms', fit.rms), q('pairs-largest', fit.max), q('pairs', pairs.length)], warnings },
    })
  },
})
