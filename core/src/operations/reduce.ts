import { z } from 'zod'
import { reduceMesh } from '../repair/reduce.ts'
import { triangleCount } from '../shape/mesh.ts'
import { defineOperation, meshesOf } from './operation.ts'
import { q } from './quantities.ts'

export const reduce = defineOperation({
  name: 'reduce',
  version: 2,
  title: 'Reduce triangles',
  stage: 'Merge',
  shows: ['reduced-largest'],
  picture: true,
  sample: { triangles: 9 },
  about: 'Fewer triangles, down to a count or up to a permitted deviation; the deviation is then measured, not assumed.',
  params: z
    .object({
      triangles: z.number().int().min(4).optional().describe('Triangles to keep.'),
      deviation: z.number().positive().optional().describe('Largest permitted distance from the unreduced mesh, mm.'),
    })
    .refine((p) => p.triangles !== undefined || p.deviation !== undefined, 'Say a count or a deviation.'),
  inputs: { mesh: { kinds: ['mesh'], about: 'mesh' } },
  outputs: { mesh: { kind: 'mesh', replaces: 'mesh', about: 'reduced mesh' } },
  async run(inputs, params, ctx) {
    const [mesh] = meshesOf(inputs, 'mesh')
    const r = await reduceMesh(
      mesh.data,
      { ...(params.triangles ? { triangles: params.triangles } : {}), ...(params.deviation ? { deviation: params.deviation } : {}) },
      ctx,
    )
    return {
      outputs: { mesh: [{ ...mesh, data: r.mesh }] },
      evidence: {
        quantities: [
          q('triangles', triangleCount(r.mesh)),
          q('reduced-largest', r.maxDeviation),
          q('reduced-rms', r.rmsDeviation),
          q('share-kept', (100 * triangleCount(r.mesh)) / triangleCount(mesh.data)),
        ],
        warnings: r.gaveUp
          ? [`Nothing coarser keeps ${params.deviation} mm: the mesh was left as it is. Permit a larger deviation.`]
          : params.triangles !== undefined && triangleCount(r.mesh) > 1.05 * params.triangles && triangleCount(r.mesh) < triangleCount(mesh.data)
            ? [
                `${triangleCount(r.mesh)} triangles are left, not ${params.triangles}: ${params.deviation === undefined ? 'what is left cannot be collapsed without tearing the surface' : `fewer would not keep ${params.deviation} mm`}.`,
              ]
            : [],
      },
    }
  },
})
