import type { Floor, FloorChoice } from '@oak-gauge/core/capture/floor.ts'
import type { LiveOptions, LiveState } from '@oak-gauge/core/capture/livetracker.ts'
import type { NextViewOptions, NextViews } from '@oak-gauge/core/capture/nextviews.ts'
import type { Reach } from '@oak-gauge/core/capture/reach.ts'
import type { KnownMarkers } from '@oak-gauge/core/capture/trackmarkers.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import type { SentError } from '@oak-gauge/core/base/errors.ts'

export type RaisedFloor = FloorChoice & { raise: number }

/** What the thread that tracks is begun with: what holds frames by markers sees them through these optics. */
export interface TrackStart extends Omit<LiveOptions, 'markers'> {
  /** working distance, mm */
  range: NextViewOptions['range']
  stereo: Stereo
  map: (KnownMarkers & Pick<Markers, 'ids' | 'positions' | 'normals'>) | null
  floor: RaisedFloor | null
  reach: Reach | null
  /** of the surface: another one begins anew */
  version: number
}

export type ToTracker =
  /** as it came; rgb: red, green, blue of each point; markers: x y z and diameter of each */
  | { type: 'frame'; time: number; xyz: Float32Array; brightness?: Uint8Array; rgb?: Uint8Array; markers: number[]; at?: number[] }
  /** a record again, after a restart or with other settings; answered by 'again' when it is tracked */
  | { type: 'again'; record: Uint8Array }
  /** such records come now, and until they all have what comes from the scanner is recorded only: it comes again with them */
  | { type: 'replay'; on: boolean }
  /** records of frames that a person leaves out, and of those that are taken in again */
  | { type: 'cut'; out: Uint8Array[]; in: Uint8Array[] }
  /** what lies beneath is not shown any more, or again */
  | { type: 'floor'; floor: RaisedFloor | null }
  /** from where it should be seen next is to be found, as long as nothing else comes; table: how a turntable stands, and how it stood for each shot, degrees */
  | { type: 'look'; table?: { turn: number; taken: number[] } }

/** Cubes of the surface: from the first of these on, or all of them. */
export interface Grown {
  version: number
  from: number
  /** seven a cube: middle, direction, frames that saw it */
  cubes: Float32Array
}

/** of a frame: its time, number of its fate, how well it is held and cubes known by then (NaN: as before) */
export const TOLD = 4

export type FromTracker =
  /** the record of a frame that came, to be stored */
  | { type: 'record'; record: Uint8Array }
  /** turns: of a turntable, for each view; known: cubes of the surface by then */
  | ({ type: 'next'; turns: number[]; known: number } & NextViews)
  /** a record that came again is tracked */
  | { type: 'again' }
  /** the surface is shown otherwise */
  | { type: 'grown'; grown: Grown }
  /** where the floor is, and how much of the surface lies beneath, 0 to 1; or why none is found */
  | { type: 'floor'; found: { sigma: Floor['sigma']; beneath: number } | null; problem: SentError | null }
  /** a frame that is none: what is wrong with it */
  | { type: 'refused'; detail: string; remedy: string }
  /** what a frame came to; and since the last time: what is newly known of frames (TOLD numbers each), and whether the surface began anew */
  | ({ type: 'tracked'; time: number; placed: number; distance: number | null; late: number; took: number; grown?: Grown; ghost: Float64Array | null } & Pick<
      LiveState,
      'state' | 'why' | 'pose' | 'contradicts' | 'waiting' | 'span' | 'anew'
    > & { sigma: number | null; fates: number[] })
