import { z } from 'zod'
import { readText } from '../formats/source.ts'
import { readMarkerRecording } from '../formats/markers.ts'
import { levelled, turned } from '../markers/levelled.ts'
import { mapFrames, type MappedFrames } from '../markers/mapframes.ts'
import { worstUncertainty, type Markers } from '../markers/markers.ts'
import { defineOperation, type FileValue, type Item } from './operation.ts'
import { q, type Quantity } from './quantities.ts'

export const mapMarkers = defineOperation({
  name: 'map-markers',
  version: 2,
  title: 'Map the markers',
  stage: 'Mark',
  shows: ['markers', 'marker-u-largest'],
  about: 'Solves all frames of a recording and all markers in it together. Each marker gets a position with its uncertainty; markers that moved are named.',
  params: z.object({
    name: z.string().max(120).optional().describe('Name of the map.'),
    target: z.number().positive().default(0.02).describe('Expanded uncertainty (k = 2) a marker should reach, mm.'),
  }),
  inputs: {
    file: { kinds: ['file'], about: 'the recording' },
    known: { kinds: ['markers'], optional: true, about: 'the map of this setup so far: the new one takes its place' },
    plan: { kinds: ['markers'], optional: true, about: 'what was planned: markers take its names, and the map its place' },
    from: { kinds: ['markers'], optional: true, about: 'the map of another setup whose markers travelled along' },
  },
  outputs: { map: { kind: 'markers', replaces: 'known', about: 'the map' } },
  async run(inputs, params, ctx) {
    const [{ source }] = inputs['file'] as FileValue[]
    const [known] = (inputs['known'] ?? inputs['from'] ?? []) as (Item<Markers> | undefined)[]
    const [plan] = (inputs['plan'] ?? []) as (Item<Markers> | undefined)[]
    ctx.progress(0, 'reading')
    const recording = readMarkerRecording(await readText(source), source.name)
    const m = mapFrames(
      recording.frames,
      {
        stereo: recording.optics,
        scale: recording.scale,
        ...(recording.range ? { range: recording.range } : {}),
        ...(known ? { known: known.data } : {}),
        ...(plan ? { plan: turned(plan.data, plan.pose) } : {}),
      },
      ctx,
    )
    // what goes on from a map keeps its axes; what was planned takes those of the plan
    const pose = known?.pose ?? m.planned?.pose ?? levelled(m.markers).pose
    const markers = m.markers
    return {
      outputs: { map: [{ name: params.name ?? 'Marker map', data: markers, pose }] },
      evidence: { quantities: quantitiesOf(m, markers), warnings: warningsOf(m, markers, params.target) },
    }
  },
})

function quantitiesOf(m: MappedFrames, markers: Markers): Quantity[] {
  const u = markers.ids.map((_, i) => 2 * worstUncertainty(markers.covariance, i))
  return [
    q('markers', markers.ids.length),
    q('marker-u-rms', 2 * m.uncertainty),
    q('marker-u-largest', Math.max(...u)),
    q('residual-rms', m.rms),
    ...(m.moved.length ? [q('markers-moved', [...new Set(m.moved.map((c) => c.id))].join(', '))] : []),
    ...(m.planned ? [q('where-planned', m.planned.beside.length), q('beside-the-plan-rms', rms(m.planned.beside.map((b) => b.distance)))] : []),
    ...(m.planned?.absent.length ? [q('planned-not-found', m.planned.absent.join(', '))] : []),
    ...(m.added.length ? [q('markers-added', m.added.join(', '))] : []),
    ...(m.missing.length ? [q('markers-missing', m.missing.join(', '))] : []),
    ...(m.kept.length ? [q('kept-from-before', m.kept.join(', '))] : []),
    q('frames', m.recorded),
    q('frames-not-placed', m.lost),
    q('sightings', m.sightings),
    q('sightings-set-aside', m.rejected),
    q('scale-relative-uncertainty', markers.scale > 0 ? 1e6 * markers.scale : 'unknown'),
    ...markers.ids.map((id, i) => q('marker-u', u[i], { of: id })),
    ...m.residuals.map((r, i) => q('residual', r, { of: markers.ids[i] })),
    ...m.angles.map((a, i) => q('widest-angle', a, { of: markers.ids[i] })),
    ...m.moved.map((c) => q('moved-by', c.distance, { of: c.id, u: c.uncertainty })),
  ]
}

const rms = (list: number[]) => Math.sqrt(list.reduce((s, v) => s + v * v, 0) / Math.max(1, list.length))

function warningsOf(m: MappedFrames, markers: Markers, target: number): string[] {
  const out: string[] = []
  if (m.apart) out.push(`The earlier map does not hold this one: ${m.apart} Passes recorded with it do not belong to this map.`)
  if (m.planned?.absent.length) out.push(`Planned and not found: ${m.planned.absent.join(', ')}.`)
  const group = m.moved.find((c) => c.together.length > 0)
  if (group)
    out.push(
      `Markers ${group.together.join(', ')} moved at the same time, the others did not: the part was nudged against the table, or the other way round. Passes recorded before and after belong to two setups.`,
    )
  for (const c of m.moved)
    if (!c.together.length)
      out.push(
        `Marker ${c.id} moved by ${c.distance.toFixed(3)} ± ${(2 * c.uncertainty).toFixed(3)} mm. It has its new place; what was seen before does not count for it.`,
      )
  for (const id of m.missing) out.push(`Marker ${id} is gone: it was not seen again where it should have been.`)
  const poor = markers.ids.filter((_, i) => 2 * worstUncertainty(markers.covariance, i) > target)
  if (poor.length)
    out.push(
      `${poor.length} markers do not reach ${target} mm yet: ${poor.slice(0, 8).join(', ')}${poor.length > 8 ? ' …' : ''}. Show them from more directions.`,
    )
  if (m.dropped > 0) out.push(`${m.dropped} things were seen too seldom to be markers, and were left out.`)
  if (m.lost > 0.2 * m.recorded) out.push(`${m.lost} of ${m.recorded} frames could not be placed.`)
  return out
}
