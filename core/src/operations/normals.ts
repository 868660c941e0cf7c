import { z } from 'zod'
import { subProgress } from '../base/run.ts'
import { estimateNormals } from '../shape/normals.ts'
import { defineOperation, pointsOf, type Item } from './operation.ts'
import { q, type Quantity } from './quantities.ts'

export const normals = defineOperation({
  name: 'normals',
  version: 1,
  title: 'Normals',
  stage: 'Clean',
  about: 'Surface direction at every point, from its neighbours; at edges from its own side.',
  params: z.object({
    radius: z.number().positive().optional().describe('Radius of the local planes, mm. Default: 4 point spacings.'),
    keepGiven: z.boolean().default(true).describe('Keep normals that came with the file.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'passes with normals' } },
  async run(inputs, params, ctx) {
    const passes = pointsOf(inputs, 'passes')
    const out: Item[] = []
    const quantities: Quantity[] = []
    const warnings: string[] = []
    for (let i = 0; i < passes.length; i++) {
      const r = await estimateNormals(
        passes[i].data,
        { keepGiven: params.keepGiven, ...(params.radius ? { radius: params.radius } : {}) },
        subProgress(ctx, i / passes.length, (i + 1) / passes.length),
      )
      out.push({ ...passes[i], data: r.points })
      quantities.push(q('noise', r.sigma, { of: passes[i].name }), q('point-spacing', r.spacing, { of: passes[i].name }))
      if (r.orientation === 'guessed') warnings.push(`${passes[i].name}: it is not known where the scanner stood, so that outside was told from the shape.`)
    }
    return { outputs: { passes: out }, evidence: { quantities, warnings } }
  },
})
