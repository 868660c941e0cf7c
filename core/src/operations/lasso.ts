import { z } from 'zod'
import { f32 } from '../base/arrays.ts'
import { transformArray } from '../base/mat4.ts'
import { insideLasso } from '../clean/lasso.ts'
import { OakError } from '../base/errors.ts'
import { keepPoints } from '../shape/points.ts'
import { defineOperation, pointsOf, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const lasso = defineOperation({
  name: 'lasso',
  version: 1,
  title: 'Remove a selection',
  stage: 'Clean',
  sample: { loops: [{ view: new Array<number>(16).fill(0), loop: [0, 0, 1, 0, 0, 1], depth: [0, 0, 1] }] },
  about: 'Takes away what lies inside free-hand loops, each kept with the camera it was drawn with.',
  params: z.object({
    loops: z
      .array(
        z.object({
          view: z.array(z.number()).length(16).describe('Job coordinates to clip space, row major.'),
          loop: z.array(z.number()).min(6).describe('x, y of the loop in clip space.'),
          frontDepth: z.number().positive().optional().describe('Only the front, to this depth (mm); right through when left out.'),
          depth: z.tuple([z.number(), z.number(), z.number()]).describe('View direction in the job.'),
          mode: z.enum(['add', 'remove']).default('add'),
        }),
      )
      .min(1),
    invert: z.boolean().default(false).describe('Take away what was not selected.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'passes without the selection' } },
  run(inputs, params) {
    const passes = pointsOf(inputs, 'passes')
    const total = passes.reduce((s, p) => s + p.data.xyz.length, 0)
    // all passes together, since what hides what does not stop at a pass
    const xyz = f32(total)
    let o = 0
    for (const p of passes) {
      transformArray(p.pose, p.data.xyz, xyz.subarray(o, o + p.data.xyz.length))
      o += p.data.xyz.length
    }
    const selected = new Uint8Array(total / 3)
    for (const l of params.loops) {
      const flags = insideLasso(xyz, { view: l.view, loop: l.loop, ...(l.frontDepth ? { frontDepth: l.frontDepth } : {}) }, l.depth)
      for (let i = 0; i < flags.length; i++) if (flags[i]) selected[i] = l.mode === 'add' ? 1 : 0
    }
    let gone = 0
    for (let i = 0; i < selected.length; i++) {
      if (params.invert) selected[i] = 1 - selected[i]
      gone += selected[i]
    }
    if (gone === 0) throw new OakError('nothing-selected', 'No point lies inside the selection.', { remedy: 'Draw the loop around some points.' })
    const out: Item[] = []
    let at = 0
    for (const p of passes) {
      const n = p.data.xyz.length / 3
      const keep = selected.slice(at, at + n).map((s) => 1 - s)
      at += n
      out.push({ ...p, data: keepPoints(p.data, keep, 'removing the selection') })
    }
    return Promise.resolve({
      outputs: { passes: out },
      evidence: { quantities: [q('points-gone', gone), q('share-gone', (100 * gone) / selected.length)], warnings: [] },
    })
  },
})
