import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { identity } from '../base/mat4.ts'
import { meshFacts } from '../measure/facts.ts'
import { mergePasses } from '../merge/merge.ts'
import { defineOperation, pointsOf } from './operation.ts'
import { q } from './quantities.ts'

export const merge = defineOperation({
  name: 'merge',
  version: 6,
  title: 'Merge',
  stage: 'Merge',
  shows: ['surface-noise', 'cell-size'],
  picture: true,
  about: 'One mesh out of all passes at a cell size. Holes of the part stay open unless a closed body is asked for.',
  params: z.object({
    cell: z.number().positive().optional().describe('Cell size, mm. Default: 1.1 point spacings.'),
    closing: z
      .enum(['open', 'small', 'closed'])
      .default('open')
      .describe('Leave open but for gaps narrower than three cells, close small gaps only, or close everything.'),
    gapSize: z.number().positive().default(5).describe('Largest gap that counts as small, mm across.'),
    radius: z.number().positive().optional().describe('Radius over which points are averaged, mm. Default: 2.8 cells, at least 3.1 point spacings.'),
    crisp: z.boolean().default(true).describe('Put the edges back that the cells cut off. Without it they come out rounded by about half a cell.'),
    crumbShare: z.number().min(0).max(1).default(0.001).describe('Loose pieces below this share of the area are dropped.'),
    alignmentError: z
      .union([z.number().nonnegative(), z.literal('unknown')])
      .optional()
      .describe('Error of the joint adjustment, mm: the cell is never finer than this; or unknown.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'aligned passes' } },
  outputs: { mesh: { kind: 'mesh', about: 'the merged mesh' } },
  async run(inputs, params, ctx) {
    if (params.cell !== undefined && typeof params.alignmentError === 'number' && params.cell < params.alignmentError)
      throw new OakError(
        'cell-below-error',
        `A cell of ${params.cell} mm is finer than the alignment error of ${params.alignmentError.toPrecision(2)} mm: it would show the misfit of the passes as if it were shape.`,
        {
          remedy: `Choose at least ${params.alignmentError.toPrecision(2)} mm, or improve the alignment first.`,
        },
      )
    const { cell, radius, alignmentError, ...rest } = params
    const passes = pointsOf(inputs, 'passes')
    const r = await mergePasses(
      passes,
      {
        ...rest,
        ...(cell ? { cell } : {}),
        ...(radius ? { radius } : {}),
        ...(typeof alignmentError === 'number' ? { least: alignmentError } : {}),
      },
      ctx,
    )
    const facts = meshFacts(r.mesh)
    const warnings: string[] = []
    if (params.alignmentError === 'unknown')
      warnings.push('The error of the alignment is not known, since nothing holds some passes: the mesh may show their misfit as shape. See Align.')
    if (r.guessedPasses) warnings.push(`For ${r.guessedPasses} passes it is not known where the scanner stood: look whether outside and inside are right.`)
    return {
      outputs: { mesh: [{ name: `Merged mesh ${r.cell.toPrecision(2)} mm`, data: r.mesh, pose: identity() }] },
      evidence: {
        quantities: [
          q('triangles', facts.triangles),
          q('cell-size', r.cell),
          q('surface-noise', r.noise),
          q('open-edges', facts.topology.openEdges),
          q('pieces', facts.topology.components),
          q('not-measured', 100 * facts.unmeasuredShare),
          q('area', facts.area),
          q('crisp-edges', r.crispLength),
          q('pinholes-closed', r.pinholes),
          q('crumbs-dropped', r.crumbs),
          q('points-used', r.points),
          q('point-spacing', r.spacing),
        ],
        warnings,
      },
    }
  },
})
