import { OakError } from '@oak-gauge/core/base/errors.ts'
import { floorOfMarkers } from '@oak-gauge/core/capture/floor.ts'
import type { FloorRequest } from '@oak-gauge/contract'
import { inMap, type CaptureOptions } from './storepass.ts'
import type { RaisedFloor } from './trackmessages.ts'

/** What may be chosen again while it is recorded, since frames are kept whole. */
export type Chosen = Pick<CaptureOptions, 'spacing' | 'near' | 'far' | 'floor' | 'floorMarkers' | 'raise'>

/** Of recordings that began before there was one. */
export const NO_FLOOR: Pick<Chosen, 'floor' | 'floorMarkers' | 'raise'> = { floor: 'none', floorMarkers: [], raise: 0.5 }

export const chosenOf = ({ spacing, near, far, floor, floorMarkers, raise }: CaptureOptions): Chosen => ({ spacing, near, far, floor, floorMarkers, raise })

export const floorIn = ({ floor, floorMarkers, raise }: CaptureOptions): RaisedFloor | null => (floor === 'none' ? null : { floor, floorMarkers, raise })

/** Throws in words where markers cannot tell: no map holds these frames, or they lie on no plane. */
export function checkFloor(o: CaptureOptions, { floor, floorMarkers }: FloorRequest): void {
  if (floor !== 'markers') return
  const map = o.map?.markers
  if (!map || !inMap(o))
    throw new OakError('missing-input', 'No map of markers holds these frames.', { remedy: 'Let the table itself tell where the floor is.' })
  floorOfMarkers(map, floorMarkers)
}
