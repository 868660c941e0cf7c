import type { LiveFrame, LiveOptions } from './liveframe.ts'
import type { Held } from './motions.ts'
import { markerTracker } from './trackmarkers.ts'

/** What holds frames besides their shape: markers of a map, or the scanner's own word. */
export interface Holder {
  /** scanner to map, or to what the scanner's own poses lead to; predicted: where it should be. Undefined where it holds nothing */
  lay(frame: Pick<LiveFrame, 'markers' | 'at'>, predicted: Held['pose']): Held | undefined
  /** the same from nothing */
  find(frame: Pick<LiveFrame, 'markers' | 'at'>): Held | undefined
  /** it is known from the first frame on where it is: nothing has to be found before */
  always: boolean
}

/** What holds the frames. */
export const heldBy = (o: Pick<LiveOptions, 'by' | 'markers'>) => o.by ?? (o.markers ? 'markers' : 'shape')

/** Whether the axes in which the surface grows are those of the map, where there is one. */
export const inAxesOfMap = (by: NonNullable<LiveOptions['by']>): boolean => by === 'markers' || by === 'both'
/** Whether shape leads from frame to frame, alone or together with what else there is. */
export const ledByShape = (by: NonNullable<LiveOptions['by']>): boolean => by === 'shape' || by === 'both' || by === 'print'

/**
 * What to hold frames by where nobody says it: markers of a map; else the scanner's own word, alone for single lines, whose shape says nothing to speak of
 * (bracket by Rowan: rms 0.0126 mm alone, 0.0125 together, in twice the time), together with the shape of areas (by Hazel: 0.0154 and 0.0140); else shape.
 */
export function bestHold(map: boolean, own: boolean, lines: boolean): Exclude<NonNullable<LiveOptions['by']>, 'print'> {
  if (map) return 'markers'
  return own ? (lines ? 'own' : 'both') : 'shape'
}

/** Undefined where shape alone holds them. Throws RangeError where what is to hold them is not there. */
export function holderOf(o: LiveOptions): Holder | undefined {
  const by = heldBy(o)
  if (by === 'shape' || by === 'print') return undefined
  if (o.markers && by !== 'own') {
    const tracker = markerTracker(o.markers.map, o.markers)
    return {
      lay: (f, predicted) => f.markers && tracker.lay(f.markers, predicted),
      find: (f) => f.markers && tracker.find(f.markers),
      always: false,
    }
  }
  const { own } = o
  if (by === 'markers' || !own) throw new RangeError(`frames are to be held by ${by === 'both' ? 'markers or by the scanner' : by}, and there are none`)
  const turn = ((own.degrees * Math.PI) / 180) ** 2
  const covariance = new Float64Array(36)
  for (let k = 0; k < 6; k++) covariance[7 * k] = k < 3 ? turn : own.mm ** 2
  const said = ({ at }: Pick<LiveFrame, 'at'>) => at && { pose: at, covariance }
  return { lay: said, find: said, always: true }
}
