import { z } from 'zod'
import { f32 } from '../base/arrays.ts'
import { identity } from '../base/mat4.ts'
import { adjustJointly } from '../align/joint.ts'
import { makePoints, type Points } from '../shape/points.ts'
import { alignmentEvidence } from './alignment-evidence.ts'
import { defineOperation, pointsOf, type Item } from './operation.ts'

/** Number of the setup of each pass, where all passes tell theirs. */
function setupsOf(passes: Item<Points>[]): { setups?: number[] } {
  const names = [...new Set(passes.map((p) => p.setup))]
  return names.includes(undefined) ? {} : { setups: passes.map((p) => names.indexOf(p.setup)) }
}

export const adjust = defineOperation({
  name: 'adjust',
  version: 3,
  title: 'Joint adjustment',
  about: 'Moves all passes but the anchor a little, all at once, so that the remaining error is shared, and says how large it is.',
  params: z.object({
    anchor: z.number().int().min(0).default(0).describe('Number of the pass that stays put, from 0.'),
    gateStart: z.number().positive().optional().describe('Largest gap at the beginning that still counts as the same surface, mm. Default: from the gaps that there are.'),
    tracking: z.number().positive().optional().describe('How far off the scanner may be from pass to pass of one setup, mm. Default: half a point spacing.'),
    gateEnd: z.number().positive().optional().describe('The same at the end, mm. Default: 1.3 point spacings.'),
    radius: z.number().positive().optional().describe('Radius over which surfaces are smoothed before they are compared, mm. Default: 4.4 point spacings.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, setups: true, about: 'all passes' } },
  outputs: {
    passes: { kind: 'points', many: true, replaces: 'passes', about: 'adjusted passes' },
    places: { kind: 'points', about: 'where gaps were measured, in the job' },
    gaps: { kind: 'field', on: 'places', about: 'signed gap at each of these places, mm' },
  },
  async run(inputs, params, ctx) {
    const passes = pointsOf(inputs, 'passes')
    const r = await adjustJointly(
      passes,
      {
        anchor: params.anchor,
        ...(params.gateStart ? { gateStart: params.gateStart } : {}),
        ...(params.tracking ? { tracking: params.tracking } : {}),
        ...setupsOf(passes),
        ...(params.gateEnd ? { gateEnd: params.gateEnd } : {}),
        ...(params.radius ? { radius: params.radius } : {}),
      },
      ctx,
    )
    const step = Math.max(1, Math.ceil(r.gaps.length / 60_000))
    const n = Math.floor(r.gaps.length / step)
    const xyz = f32(3 * n)
    const values = f32(n)
    for (let i = 0; i < n; i++) {
      values[i] = r.gaps[i * step]
      for (let k = 0; k < 3; k++) xyz[3 * i + k] = r.gapXyz[3 * i * step + k]
    }
    return {
      outputs: {
        passes: passes.map((p, i) => ({ ...p, pose: r.poses[i] })),
        places: [{ name: 'where gaps were measured', data: makePoints({ xyz }), pose: identity() }],
        gaps: [{ name: 'gaps between passes', data: { kind: 'field', values, unit: 'mm' }, pose: identity() }],
      },
      evidence: alignmentEvidence(
        r,
        passes.map((p) => p.name),
      ),
    }
  },
})
