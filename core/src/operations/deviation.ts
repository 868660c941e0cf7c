import { z } from 'zod'
import { f32 } from '../base/arrays.ts'
import { invertRigid, multiply, transformArray } from '../base/mat4.ts'
import { summarise } from '../base/stats.ts'
import { deviationTo } from '../inspect/deviation.ts'
import { measuredVertices, vertexAreas } from '../shape/mesh.ts'
import { histogramOf } from './alignment-evidence.ts'
import { defineOperation, meshesOf, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const deviation = defineOperation({
  name: 'deviation',
  version: 2,
  title: 'Deviation from the nominal',
  stage: 'Inspect',
  shows: ['within', 'deviation-mean'],
  picture: true,
  about: 'Signed distance of every vertex of the measured part from the nominal: plus is material extra, minus material missing. Statistics by area.',
  params: z.object({
    limit: z.number().positive().default(0.1).describe('Fine inside plus / minus this, mm.'),
    scale: z.number().positive().default(1).describe('End of the colour scale, mm.'),
    maxDistance: z.number().positive().default(10).describe('Further away there is no nominal, mm.'),
  }),
  inputs: {
    measured: { kinds: ['mesh', 'points'], about: 'the measured part' },
    nominal: { kinds: ['mesh'], about: 'the nominal' },
  },
  outputs: { field: { kind: 'field', on: 'measured', about: 'deviation of each vertex or point, mm' } },
  async run(inputs, params, ctx) {
    const measured = (inputs['measured'] as Item[])[0]
    const [nominal] = meshesOf(inputs, 'nominal')
    const d = measured.data
    const own = d.kind === 'mesh' ? d.vertices : d.kind === 'points' ? d.xyz : f32(0)
    const placed = transformArray(multiply(invertRigid(nominal.pose), measured.pose), own, f32(own.length))
    const r = await deviationTo(nominal.data, placed, params.maxDistance, ctx)
    const values = r.values
    let far = 0
    for (let i = 0; i < values.length; i++) {
      if (r.beyond[i]) values[i] = NaN
      if (Number.isNaN(values[i])) far++
    }
    // what was filled is not measured: it has no deviation, and counts nowhere
    const measuredThere = d.kind === 'mesh' ? measuredVertices(d) : undefined
    let filled = 0
    if (measuredThere)
      for (let i = 0; i < values.length; i++)
        if (!measuredThere[i]) {
          values[i] = NaN
          filled++
        }
    const weights = d.kind === 'mesh' ? vertexAreas(d) : undefined
    const s = summarise(values, weights)
    let [within, extra, missing, sum] = [0, 0, 0, 0]
    for (let i = 0; i < values.length; i++) {
      const v = values[i]
      if (Number.isNaN(v)) continue
      const w = weights ? weights[i] : 1
      sum += w
      if (v > params.limit) extra += w
      else if (v < -params.limit) missing += w
      else within += w
    }
    const share = (v: number) => (sum ? (100 * v) / sum : 0)
    return {
      outputs: { field: [{ name: `Deviation from ${nominal.name}`, data: { kind: 'field', values, unit: 'mm' }, pose: measured.pose }] },
      evidence: {
        quantities: [
          q('within', share(within), { at: params.limit }),
          q('extra-beyond', share(extra)),
          q('missing-beyond', share(missing)),
          q('deviation-mean', s.mean),
          q('deviation-rms', s.rms),
          q('largest-extra', s.max),
          q('largest-missing', s.min),
          q('area-95', s.p95Abs),
        ],
        histogram: histogramOf(values, params.scale, 'mm', weights),
        warnings: [
          ...(far ? [`${far} places have no nominal within ${params.maxDistance} mm or lie beyond its border; they are left out.`] : []),
          ...(filled ? [`${filled} places were filled, not measured; they are left out.`] : []),
        ],
      },
    }
  },
})
