import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { f32 } from '../base/arrays.ts'
import { transformArray } from '../base/mat4.ts'
import { abovePlane, fitPlane, planeThrough, type Plane } from '../clean/plane.ts'
import { keepPoints } from '../shape/points.ts'
import { defineOperation, pointsOf } from './operation.ts'
import { q } from './quantities.ts'

const place = z.tuple([z.number(), z.number(), z.number()])

export const trimPlane = defineOperation({
  name: 'trim-plane',
  version: 1,
  title: 'Trim by a plane',
  stage: 'Clean',
  picture: true,
  about: 'Takes away what lies on one side of a plane, such as the table: through three picked places, or fitted to the points around one picked place.',
  params: z.object({
    through: z.array(place).length(3).optional().describe('Three places of the plane, mm in the job.'),
    patch: z.object({ at: place, radius: z.number().positive() }).optional().describe('Fit the plane to the points within the radius (mm) of a place.'),
    raise: z.number().default(0.3).describe('How far the plane is raised towards the part, mm.'),
    flip: z.boolean().default(false).describe('Take away the other side.'),
  }),
  inputs: { passes: { kinds: ['points'], many: true, about: 'passes to trim' } },
  outputs: { passes: { kind: 'points', many: true, replaces: 'passes', about: 'trimmed passes' } },
  run(inputs, params) {
    const passes = pointsOf(inputs, 'passes')
    const placed = passes.map((p) => transformArray(p.pose, p.data.xyz, f32(p.data.xyz.length)))
    const quantities = []
    let plane: Plane
    if (params.through) plane = planeThrough(params.through[0], params.through[1], params.through[2])
    else if (params.patch) {
      const { at, radius } = params.patch
      const near: number[] = []
      for (const xyz of placed)
        for (let i = 0; i < xyz.length; i += 3)
          if (Math.hypot(xyz[i] - at[0], xyz[i + 1] - at[1], xyz[i + 2] - at[2]) <= radius) near.push(xyz[i], xyz[i + 1], xyz[i + 2])
      const fit = fitPlane(near)
      plane = fit
      quantities.push(q('flatness-of-the-patch-rms', fit.sigma), q('points-in-the-patch', fit.used))
    } else throw new OakError('no-plane', 'No plane is given.', { remedy: 'Pick three places on the table, or one place to fit the plane to.' })
    // the part is on the side where most lies away from the plane
    let balance = 0
    for (const xyz of placed)
      for (let i = 0; i < xyz.length; i += 3) balance += plane.normal[0] * xyz[i] + plane.normal[1] * xyz[i + 1] + plane.normal[2] * xyz[i + 2] - plane.offset
    if (balance < 0 !== params.flip) plane = { normal: plane.normal.map((v) => -v) as [number, number, number], offset: -plane.offset }
    let [before, after] = [0, 0]
    const out = passes.map((p, i) => {
      const keep = abovePlane(placed[i], plane, params.raise)
      before += keep.length
      const data = keepPoints(p.data, keep, 'trimming')
      after += data.xyz.length / 3
      return { ...p, data }
    })
    return Promise.resolve({
      outputs: { passes: out },
      evidence: {
        quantities: [q('points-gone', before - after), q('share-gone', (100 * (before - after)) / before), q('points-left', after), ...quantities],
        warnings: [],
      },
    })
  },
})
