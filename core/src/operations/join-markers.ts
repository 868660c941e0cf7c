import { z } from 'zod'
import { multiply } from '../base/mat4.ts'
import { compareMarkers } from '../markers/compare.ts'
import { turned } from '../markers/levelled.ts'
import type { Markers } from '../markers/markers.ts'
import { defineOperation, MAPS_ALONG, mapsOf, pointsOf, type Item } from './operation.ts'
import { q } from './quantities.ts'

export const joinMarkers = defineOperation({
  name: 'join-markers',
  version: 2,
  title: 'Bring together by markers',
  stage: 'Mark',
  about:
    'Moves the loose map, and the passes recorded with it, so that the markers both maps share fall together. Markers that do not keep their distances are named and do not count.',
  params: z.object({
    slack: z
      .number()
      .positive()
      .max(10)
      .default(0.01)
      .describe(
        'How far a marker may lie beside its place and still count as there, standard deviation, mm. 0.01 for maps, 1.5 for a plan that was stuck by hand.',
      ),
    search: z.number().positive().max(200).default(20).describe('How far a marker is looked for beside its place, mm.'),
  }),
  inputs: {
    anchor: { kinds: ['markers'], about: 'the map or plan that stays put' },
    loose: { kinds: ['markers'], about: 'the map that moves' },
    passes: { kinds: ['points'], many: true, optional: true, about: 'passes that move with it' },
    maps: { ...MAPS_ALONG.input, about: 'other maps that move with it' },
  },
  outputs: {
    loose: { kind: 'markers', replaces: 'loose', about: 'the map in its new place' },
    passes: { kind: 'points', many: true, replaces: 'passes', about: 'passes in their new place' },
    maps: MAPS_ALONG.output,
  },
  run(inputs, params) {
    const [anchor] = inputs['anchor'] as Item<Markers>[]
    const [loose] = inputs['loose'] as Item<Markers>[]
    const a = turned(anchor.data, anchor.pose)
    const b = turned(loose.data, loose.pose)
    const d = compareMarkers(a, b, params)
    const warnings = [
      ...d.moved.map(
        (m) => `Marker ${b.ids[m.b]} lies ${m.distance.toFixed(2)} ± ${(2 * m.uncertainty).toFixed(2)} mm beside its place: it moved, and does not count.`,
      ),
      ...(d.same.length < 6 ? [`Only ${d.same.length} markers hold the two together; six would be comfortable.`] : []),
    ]
    return Promise.resolve({
      outputs: {
        loose: [{ ...loose, pose: multiply(d.pose, loose.pose) }],
        passes: pointsOf(inputs, 'passes').map((p) => ({ ...p, pose: multiply(d.pose, p.pose) })),
        maps: mapsOf(inputs).map((m) => ({ ...m, pose: multiply(d.pose, m.pose) })),
      },
      evidence: {
        quantities: [
          q('markers-in-common', d.same.length),
          q('markers-rms', d.rms),
          q('markers-largest', Math.max(0, ...d.same.map((m) => m.distance))),
          ...(d.moved.length ? [q('markers-moved', d.moved.map((m) => b.ids[m.b]).join(', '))] : []),
          ...(d.gone.length ? [q('only-in-the-one-that-stays', d.gone.map((i) => a.ids[i]).join(', '))] : []),
          ...(d.added.length ? [q('only-in-the-one-that-moves', d.added.map((i) => b.ids[i]).join(', '))] : []),
          ...[...d.same, ...d.moved].map((m) => q('beside-its-place', m.distance, { of: b.ids[m.b] })),
        ],
        warnings,
      },
    })
  },
})
