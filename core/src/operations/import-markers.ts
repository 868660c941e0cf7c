import { z } from 'zod'
import { identity } from '../base/mat4.ts'
import { readMarkers } from '../formats/markers.ts'
import { readText } from '../formats/source.ts'
import { worstUncertainty } from '../markers/markers.ts'
import { defineOperation, type FileValue } from './operation.ts'
import { q } from './quantities.ts'

export const importMarkers = defineOperation({
  name: 'import-markers',
  version: 1,
  title: 'Bring in a marker map',
  stage: 'Mark',
  about: 'Reads a list of marker positions: id, x, y, z, with diameter and uncertainty where they are known.',
  params: z.object({
    unit: z
      .enum(['auto', 'mm', 'cm', 'm', 'in', 'ft', 'um'])
      .default('auto')
      .describe('Unit of the coordinates. auto: as the header says, else mm where distances between neighbours are plausible.'),
  }),
  inputs: { file: { kinds: ['file'], about: 'the list' } },
  outputs: { map: { kind: 'markers', about: 'the map' } },
  async run(inputs, params) {
    const [{ source }] = inputs['file'] as FileValue[]
    const { markers, unit, warnings } = readMarkers(await readText(source), source.name, params.unit)
    const u = markers.ids.map((_, i) => 2 * worstUncertainty(markers.covariance, i)).filter((v) => !Number.isNaN(v))
    return {
      outputs: { map: [{ name: source.name.replace(/\.[^.]+$/, ''), data: markers, pose: identity() }] },
      evidence: {
        quantities: [q('markers', markers.ids.length), ...(u.length ? [q('marker-u-largest', Math.max(...u))] : []), q('unit-of-the-file', unit)],
        warnings: u.length ? warnings : [...warnings, 'The list states no uncertainties: what rests on these markers cannot state any either.'],
      },
    }
  },
})
