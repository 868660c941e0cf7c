import { OakError } from '../base/errors.ts'
import { compareMarkers } from './compare.ts'
import { turned } from './levelled.ts'
import { makeMarkers, type Markers } from './markers.ts'
import type { SolvedMap } from './map.ts'

export interface ContinuedMap {
  /** in the axes of the map before, with those of it that were not seen this time */
  markers: Markers
  /** moved since they were mapped: name, mm, standard uncertainty */
  moved: { id: string; distance: number; uncertainty: number }[]
  /** of the map before and not seen this time: kept with what was known of them */
  kept: string[]
  /** nothing holds the two together: why */
  apart: string
}

/**
 * A map that goes on from an earlier one: brought into its axes by the markers that kept their distances, so that passes recorded with the
 * earlier one stay valid; what moved since is named; what was not seen this time stays. `solved` must name known markers as `before` does.
 */
export function continueMap(before: Markers, solved: SolvedMap): ContinuedMap {
  let d: ReturnType<typeof compareMarkers>
  try {
    d = compareMarkers(before, solved.markers)
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    return { markers: solved.markers, moved: [], kept: [], apart: e.message }
  }
  const now = turned(solved.markers, d.pose)
  const taken = new Set(now.ids)
  const gone = d.gone.filter((i) => !taken.has(before.ids[i]) && !solved.missing.includes(before.ids[i]))
  const join = (a: ArrayLike<number>, b: ArrayLike<number>, width: number) => [
    ...Array.from(a),
    ...gone.flatMap((i) => Array.from({ length: width }, (_, k) => b[width * i + k])),
  ]
  return {
    markers: makeMarkers({
      ids: [...now.ids, ...gone.map((i) => before.ids[i])],
      positions: join(now.positions, before.positions, 3),
      diameters: join(now.diameters, before.diameters, 1),
      normals: join(now.normals, before.normals, 3),
      covariance: join(now.covariance, before.covariance, 6),
      frames: join(now.frames, before.frames, 1),
      perch: join(now.perch, before.perch, 1),
      scale: Math.max(now.scale, before.scale),
    }),
    moved: d.moved.map((m) => ({ id: now.ids[m.b], distance: m.distance, uncertainty: m.uncertainty })),
    kept: gone.map((i) => before.ids[i]),
    apart: '',
  }
}
