import { z } from 'zod'
import { meshFacts } from '../measure/facts.ts'
import { defineOperation, meshesOf } from './operation.ts'
import { q } from './quantities.ts'

export const facts = defineOperation({
  name: 'facts',
  version: 2,
  title: 'Mesh facts',
  stage: 'Deliver',
  about: 'Size, area, volume, open edges, pieces: what the next program will find.',
  params: z.object({}),
  inputs: { mesh: { kinds: ['mesh'], about: 'mesh' } },
  outputs: {},
  run(inputs) {
    const [mesh] = meshesOf(inputs, 'mesh')
    const f = meshFacts(mesh.data)
    const t = f.topology
    const warnings: string[] = []
    if (t.flippedEdges)
      warnings.push(`${t.flippedEdges} edges join triangles of opposite sides: part of the mesh is inside out, the volume is not to be trusted.`)
    if (t.nonManifoldEdges) warnings.push(`${t.nonManifoldEdges} edges are shared by more than two triangles.`)
    if (t.closed && f.unmeasuredShare > 0)
      warnings.push(`${(100 * f.unmeasuredShare).toPrecision(2)} % of the surface was filled, not measured: area and volume rest on it.`)
    return Promise.resolve({
      outputs: {},
      evidence: {
        quantities: [
          q('triangles', f.triangles),
          q('vertices', f.vertices),
          q('area', f.area),
          q('volume', t.closed ? f.volume : 'open'),
          q('open-edges', t.openEdges),
          q('borders', t.borders),
          q('pieces', t.components),
          q('size-x', f.size[0]),
          q('size-y', f.size[1]),
          q('size-z', f.size[2]),
          q('edges-of-more-than-two', t.nonManifoldEdges),
          q('not-measured', 100 * f.unmeasuredShare),
        ],
        warnings,
      },
    })
  },
})
