import { z } from 'zod'
import { subProgress } from '../base/run.ts'
import { findStrays } from '../clean/strays.ts'
import { keepPoints } from '../shape/points.ts'
import { defineOperation, pointsOf, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const strays = defineOperation({
  name: 'strays',
  version: 2,
  title: 'Remove strays',
  stage: 'Clean',
  about: 'Takes away single points that lie far from their neighbours.',
  params: z.object({
    neighbours: z.number().int().min(3).max(100).default(12).describe('Neighbours looked at.'),
    sigmas: z.number().positive().default(4).describe('How many standard deviations further off than usual a point must lie.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'passes without strays' } },
  async run(inputs, { neighbours, sigmas }, ctx) {
    const passes = pointsOf(inputs, 'passes')
    const out: Item[] = []
    let [before, after] = [0, 0]
    for (let i = 0; i < passes.length; i++) {
      const keep = await findStrays(passes[i].data.xyz, neighbours, sigmas, subProgress(ctx, i / passes.length, (i + 1) / passes.length))
      const data = keepPoints(passes[i].data, keep, 'removing strays')
      before += keep.length
      after += data.xyz.length / 3
      out.push({ ...passes[i], data })
    }
    return {
      outputs: { passes: out },
      evidence: { quantities: [q('points-gone', before - after), q('share-gone', (100 * (before - after)) / before)], warnings: [] },
    }
  },
})
