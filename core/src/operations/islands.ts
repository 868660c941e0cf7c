import { z } from 'zod'
import { u8 } from '../base/arrays.ts'
import { findIslands } from '../clean/strays.ts'
import { keepPoints } from '../shape/points.ts'
import { defineOperation, pointsOf, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const islands = defineOperation({
  name: 'islands',
  version: 1,
  title: 'Remove islands',
  stage: 'Clean',
  picture: true,
  about: 'Takes away small groups of points that hang together with nothing else.',
  params: z.object({
    gap: z.number().positive().optional().describe('Steps wider than this part two groups, mm. Default: 5 point spacings.'),
    smallest: z.number().min(0).max(1).default(0.02).describe('Groups below this share of the largest go.'),
    largestOnly: z.boolean().default(false).describe('Keep only the largest group.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'passes without islands' } },
  run(inputs, params, ctx) {
    const passes = pointsOf(inputs, 'passes')
    const out: Item[] = []
    let [before, after, groups] = [0, 0, 0]
    passes.forEach((p, i) => {
      const found = findIslands(p.data.xyz, params.gap)
      const least = params.largestOnly ? found.sizes[0] : params.smallest * found.sizes[0]
      const keep = u8(found.islandOf.length)
      for (let k = 0; k < keep.length; k++) {
        const g = found.islandOf[k]
        keep[k] = g === 0 || (!params.largestOnly && found.sizes[g] >= least) ? 1 : 0
      }
      groups += found.sizes.filter((s, g) => g > 0 && (params.largestOnly || s < least)).length
      const data = keepPoints(p.data, keep, 'removing islands')
      before += keep.length
      after += data.xyz.length / 3
      out.push({ ...p, data })
      ctx.progress((i + 1) / passes.length, 'islands')
    })
    return Promise.resolve({
      outputs: { passes: out },
      evidence: {
        quantities: [q('islands-gone', groups), q('points-gone', before - after), q('share-gone', (100 * (before - after)) / before)],
        warnings: [],
      },
    })
  },
})
