import { z } from 'zod'
import { multiply } from '../base/mat4.ts'
import { alignFine } from '../align/fine.ts'
import { alignmentEvidence } from './alignment-evidence.ts'
import { defineOperation, mapsOf, MAPS_ALONG, pointsOf } from './operation.ts'

export const fineAlignment = defineOperation({
  name: 'align-fine',
  version: 6,
  title: 'Fine alignment',
  stage: 'Align',
  about: 'Settles a roughly placed loose side exactly onto the anchor side; both sides stay rigid.',
  params: z.object({ reach: z.number().positive().optional().describe('How far off the loose side may be, mm. Default: 4 % of the part.') }),
  inputs: {
    anchor: { kinds: ['points'], many: true, about: 'passes that stay put' },
    loose: { kinds: ['points'], many: true, about: 'passes that move together' },
    maps: MAPS_ALONG.input,
  },
  outputs: { loose: { kind: 'points', many: true, replaces: 'loose', about: 'moved passes' }, maps: MAPS_ALONG.output },
  async run(inputs, params, ctx) {
    const anchor = pointsOf(inputs, 'anchor')
    const loose = pointsOf(inputs, 'loose')
    const r = await alignFine(anchor, loose, params.reach ? { reach: params.reach } : {}, ctx)
    return {
      outputs: {
        loose: loose.map((p) => ({ ...p, pose: multiply(r.move, p.pose) })),
        maps: mapsOf(inputs).map((m) => ({ ...m, pose: multiply(r.move, m.pose) })),
      },
      evidence: alignmentEvidence(
        r.joint,
        [...anchor, ...loose].map((p) => p.name),
      ),
    }
  },
})
