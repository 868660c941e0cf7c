import { z } from 'zod'
import { sampleMesh } from '../shape/sample.ts'
import { makePoints } from '../shape/points.ts'
import { defineOperation, meshesOf } from './operation.ts'
import { q } from './quantities.ts'

export const sample = defineOperation({
  name: 'sample',
  version: 1,
  title: 'Sample points',
  stage: 'Merge',
  about: 'Points spread evenly over a mesh, with normals.',
  params: z.object({
    count: z.number().int().min(1).max(50_000_000).default(100_000).describe('Points.'),
    seed: z.number().int().default(1).describe('Start of the random numbers.'),
  }),
  inputs: { mesh: { kinds: ['mesh'], about: 'mesh' } },
  outputs: { points: { kind: 'points', about: 'points on the mesh' } },
  run(inputs, { count, seed }, ctx) {
    const [mesh] = meshesOf(inputs, 'mesh')
    const p = sampleMesh(mesh.data, count, seed, ctx)
    return Promise.resolve({
      outputs: { points: [{ name: `${mesh.name}, sampled`, data: makePoints({ xyz: p.xyz, normals: p.normals }), pose: mesh.pose }] },
      evidence: { quantities: [q('points', count)], warnings: [] },
    })
  },
})
