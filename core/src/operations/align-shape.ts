import { z } from 'zod'
import { multiply } from '../base/mat4.ts'
import { motionWords } from '../align/freemotion.ts'
import { alignByShape } from '../align/coarse.ts'
import { defineOperation, mapsOf, MAPS_ALONG, pointsOf } from './operation.ts'
import { q } from './quantities.ts'

export const alignShape = defineOperation({
  name: 'align-shape',
  version: 4,
  title: 'Align by shape',
  stage: 'Align',
  about: 'Finds by the shape alone how the loose side lies on the anchor side, from any start. Says so when the shape does not tell.',
  params: z.object({ seed: z.number().int().default(1).describe('Start of the random search; another one gives another try.') }),
  inputs: {
    anchor: { kinds: ['points'], many: true, about: 'passes that stay put' },
    loose: { kinds: ['points'], many: true, about: 'passes that move together' },
    maps: MAPS_ALONG.input,
  },
  outputs: { loose: { kind: 'points', many: true, replaces: 'loose', about: 'moved passes' }, maps: MAPS_ALONG.output },
  async run(inputs, { seed }, ctx) {
    const loose = pointsOf(inputs, 'loose')
    const r = await alignByShape(pointsOf(inputs, 'anchor'), loose, { seed }, ctx)
    const warnings = r.ambiguous ? ['The shape fits nearly as well another way round: this part does not tell its pose. Check it, or pick pairs by hand.'] : []
    if (r.free.length)
      warnings.push(
        `The surface that both sides have seen does not hold every motion (${r.free.map(motionWords).join(', ')}): along that the pose is a guess. Pick pairs by hand, or record a pass that sees more of both sides.`,
      )
    return {
      outputs: {
        loose: loose.map((p) => ({ ...p, pose: multiply(r.pose, p.pose) })),
        maps: mapsOf(inputs).map((m) => ({ ...m, pose: multiply(r.pose, m.pose) })),
      },
      evidence: {
        quantities: [q('overlap', 100 * r.overlap), q('overlap-agreed', 100 * r.agree), q('rival-score', 100 * r.rivalry), q('compared-at', r.size)],
        warnings,
        motions: r.free.map(({ passes: _all, ...m }) => ({ ...m, of: loose.map((p) => p.name) })),
      },
    }
  },
})
