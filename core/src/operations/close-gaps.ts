import { z } from 'zod'
import { meshFacts } from '../measure/facts.ts'
import { closeGaps } from '../repair/gaps.ts'
import { defineOperation, meshesOf } from './operation.ts'
import { q } from './quantities.ts'

export const closeGapsOperation = defineOperation({
  name: 'close-gaps',
  version: 2,
  title: 'Close gaps',
  stage: 'Merge',
  about: 'Closes the gaps of a mesh up to a size, each by a membrane in its border. What is filled is flagged not measured for ever.',
  params: z.object({ size: z.number().positive().default(5).describe('Largest gap that is closed, mm across.') }),
  inputs: { mesh: { kinds: ['mesh'], about: 'mesh' } },
  outputs: { mesh: { kind: 'mesh', replaces: 'mesh', about: 'mesh with its small gaps closed' } },
  run(inputs, { size }, ctx) {
    const [mesh] = meshesOf(inputs, 'mesh')
    const r = closeGaps(mesh.data, { size }, ctx)
    const facts = meshFacts(r.mesh)
    return Promise.resolve({
      outputs: { mesh: [{ ...mesh, data: r.mesh }] },
      evidence: {
        quantities: [
          q('gaps-closed', r.closed),
          q('gaps-left', r.left),
          q('largest-left-across', r.largestLeft),
          q('area-filled', r.area),
          q('not-measured', 100 * facts.unmeasuredShare),
          q('open-edges', facts.topology.openEdges),
        ],
        warnings: r.closed ? [] : [`There is no gap of up to ${size} mm.`],
      },
    })
  },
})
