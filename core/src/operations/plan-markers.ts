import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { identity, rotateVector, transformPoint } from '../base/mat4.ts'
import { turned } from '../markers/levelled.ts'
import { PERCHES, type Markers } from '../markers/markers.ts'
import { planMarkers } from '../markers/plan/plan.ts'
import { planScene } from '../markers/plan/scene.ts'
import { backFrom, plainMesh, plainShape, tiled, upright, UPS, uprightPose } from '../markers/plan/shape.ts'
import type { Mesh } from '../shape/mesh.ts'
import { transformMesh } from '../shape/mesh.ts'
import type { Points } from '../shape/points.ts'
import { defineOperation, type Item, type Outputs } from './operation.ts'
import { q } from './quantities.ts'

const place = z.tuple([z.number(), z.number(), z.number()])

/** What the card of the stage sets as well; its words are shown there. */
export const planSettings = z.object({
  shape: plainShape.optional().describe('A plain shape with dimensions, where there is no file of the part yet; mm.'),
  up: z.enum(UPS).default('+z').describe('Which way of the job is up as the part stands.'),
  where: z.enum(['part', 'around', 'both']).default('both').describe('On the part, around it, or both.'),
  sizes: z.enum(['small', 'large', 'mixed']).default('mixed').describe('3 mm, 6 mm, or both: mixing makes constellations unique.'),
  least: z.number().int().min(3).max(20).default(4).describe('Markers in view that keep tracking alive.'),
  wanted: z.number().int().min(3).max(30).default(6).describe('Markers in view that are comfortable.'),
  spacing: z.number().min(10).max(500).default(50).describe('Distance between neighbours, mm.'),
  clearEdge: z.number().min(0).max(25).default(25).describe('Distance to edges, mm; less where the part leaves no room, with a warning.'),
  blocks: z.boolean().default(true).describe('Angled blocks of 30 and 45 degrees are at hand.'),
  towers: z.boolean().default(true).describe('Towers are at hand, for tall parts.'),
  from: z
    .enum(['auto', 'above', 'all'])
    .default('auto')
    .describe('Directions needed: above the table, or all round. auto: all round when markers are on the part only.'),
  keepFaces: z.array(z.number().int().nonnegative()).default([]).describe('Numbers of the nominal’s faces that stay free.'),
  keepClear: z
    .array(z.object({ at: place, radius: z.number().positive().max(1000) }))
    .default([])
    .describe('Places that stay free, mm in the job.'),
  stock: z
    .object({ small: z.number().int().nonnegative().optional(), large: z.number().int().nonnegative().optional() })
    .default({})
    .describe('Markers left in the box, by size.'),
  scanner: z
    .object({
      near: z.number().positive(),
      ideal: z.number().positive(),
      far: z.number().positive(),
      focal: z.number().positive(),
      across: z.number().positive(),
      up: z.number().positive(),
    })
    .default({ near: 250, ideal: 400, far: 550, focal: 1050, across: 0.45, up: 0.34 })
    .describe('Working range, mm; focal length, px; tangents of half the field of view.'),
  fixed: z
    .array(z.object({ id: z.string().min(1).max(40), at: place, normal: place, diameter: z.number().positive(), perch: z.enum(PERCHES) }))
    .max(1000)
    .default([])
    .describe('Markers that stay where they are, mm in the job.'),
  propose: z.boolean().default(true).describe('Propose more than the fixed ones.'),
})
export type PlanSettings = z.output<typeof planSettings>

export const planMarkersOperation = defineOperation({
  name: 'plan-markers',
  version: 1,
  title: 'Plan the markers',
  stage: 'Mark',
  shows: ['markers-planned', 'directions-with-enough'],
  about: 'Proposes where to stick the fewest markers such that from every direction needed enough of them are seen.',
  params: planSettings,
  inputs: {
    shape: { kinds: ['mesh', 'points'], optional: true, about: 'the part: nominal, earlier mesh, or a rough pass' },
    plan: { kinds: ['markers'], optional: true, about: 'the plan that this one takes the place of' },
  },
  outputs: {
    plan: { kind: 'markers', replaces: 'plan', about: 'the plan' },
    shape: { kind: 'mesh', about: 'the plain shape, where one was given' },
  },
  run(inputs, params, ctx) {
    const [item] = (inputs['shape'] ?? []) as Item<Mesh | Points>[]
    const mesh = shapeOf(item, params)
    const scene = planScene(mesh)
    const into = uprightPose(params.up)
    const back = backFrom(params.up)
    const from = params.from === 'auto' ? (params.where === 'part' ? 'all' : 'above') : params.from
    const plan = planMarkers(
      scene,
      params.scanner,
      {
        ...params,
        from,
        stock: stockOf(params),
        keepClear: params.keepClear.map((k) => ({ ...k, at: transformPoint(into, ...k.at) })),
        fixed: {
          ids: params.fixed.map((f) => f.id),
          positions: params.fixed.flatMap((f) => transformPoint(into, ...f.at)),
          normals: params.fixed.flatMap((f) => rotateVector(into, ...f.normal)),
          diameters: params.fixed.map((f) => f.diameter),
          perch: params.fixed.map((f) => PERCHES.indexOf(f.perch)),
        },
      },
      ctx,
    )
    const markers: Markers = turned(plan.markers, back)
    const v = plan.verdict
    const count = (d: number) => Array.from(markers.diameters).filter((x) => x === d).length
    const perches = PERCHES.map((p, i) => [p, Array.from(markers.perch).filter((x) => x === i).length] as const).filter(([, n]) => n > 0)
    const outputs: Outputs = { plan: [{ name: 'Marker plan', data: markers, pose: identity() }] }
    if (params.shape && !(item as Item | undefined)) outputs['shape'] = [{ name: nameOf(params), data: transformMesh(mesh, back), pose: identity() }]
    return Promise.resolve({
      outputs,
      evidence: {
        quantities: [
          q('markers-planned', markers.ids.length),
          q('directions-with-enough', 100 * v.enough),
          q('directions-comfortable', 100 * v.comfortable),
          q('weakest-direction-sees', v.weakest),
          q('3-mm', count(3)),
          q('6-mm', count(6)),
          ...perches.map(([p, n]) => q(PERCH_QUANTITY[p], n)),
          ...(Number.isFinite(v.nearest) ? [q('nearest-neighbours', v.nearest)] : []),
          q('groups-that-look-alike', v.lookAlikes.length),
        ],
        warnings: plan.warnings,
      },
    })
  },
})

/** What a marker sits on, as it is counted. */
export const PERCH_QUANTITY = {
  part: 'on-the-part',
  table: 'on-the-table',
  'block-30': 'on-blocks-of-30',
  'block-45': 'on-blocks-of-45',
  tower: 'on-towers',
} as const

const stockOf = (p: PlanSettings): Record<string, number> => ({
  ...(p.stock.small === undefined ? {} : { '3': p.stock.small }),
  ...(p.stock.large === undefined ? {} : { '6': p.stock.large }),
})

function shapeOf(item: Item<Mesh | Points> | undefined, p: PlanSettings): Mesh {
  if (item) return upright(item.data.kind === 'points' ? tiled(item.data) : item.data, item.pose, p.up)
  if (p.shape) return plainMesh(p.shape)
  throw new OakError('no-shape', 'There is no shape to plan on.', {
    where: 'plan-markers, shape',
    remedy: 'Bring in a nominal or an earlier mesh, or give the dimensions of a box, plate or cylinder.',
  })
}

function nameOf(p: PlanSettings): string {
  const s = p.shape
  if (!s) return ''
  return s.kind === 'cylinder' ? `Cylinder ${s.diameter} x ${s.height}` : `${s.kind === 'box' ? 'Box' : 'Plate'} ${s.x} x ${s.y} x ${s.z}`
}
