import { z } from 'zod'
import { thinPoints } from '../clean/thin.ts'
import { defineOperation, pointsOf } from './operation.ts'
import { q } from './quantities.ts'

export const thin = defineOperation({
  name: 'thin',
  version: 1,
  title: 'Thin the points',
  stage: 'Clean',
  sample: { size: 1 },
  about: 'Keeps one measured point for each cube of the given size.',
  params: z.object({ size: z.number().positive().describe('Edge of the cube, mm.') }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes to thin' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'thinned passes' } },
  run(inputs, { size }) {
    const passes = pointsOf(inputs, 'passes')
    const out = passes.map((p) => ({ ...p, data: thinPoints(p.data, size) }))
    const count = (list: typeof passes) => list.reduce((s, p) => s + p.data.xyz.length / 3, 0)
    return Promise.resolve({
      outputs: { passes: out },
      evidence: { quantities: [q('points-left', count(out)), q('share-kept', (100 * count(out)) / count(passes))], warnings: [] },
    })
  },
})
