import type { Mat4 } from '../base/mat4.ts'
import type { KnownMarkers, MarkerTrackingOptions, SeenMarkers } from './trackmarkers.ts'

/** How well a scanner says where it is (an arm, a turntable): standard uncertainty of its place along each axis, mm, and of its turn about each, degrees. */
export interface OwnPose {
  mm: number
  degrees: number
}

export interface LiveFrame {
  /** ms */
  time: number
  /** 3N mm, scanner coordinates */
  xyz: Float32Array
  /** N, 0..255: how bright each point is */
  levels?: Uint8Array
  markers?: SeenMarkers
  /** where the scanner says that it is: an arm, a turntable, a rehearsal. Scanner to something that stands still; how it went since the last frame is taken from it */
  at?: Mat4
}

export interface LiveOptions {
  /** spacing that is wanted, mm: the cubes of the surface */
  spacing: number
  /** noise of a point across its surface, mm */
  noise: number
  /** largest error of a frame's place along any motion, mm (1 sigma). Default 0.3 */
  error?: number
  /**
   * what holds a frame. 'markers': those of a map that was made before, in whose axes the surface grows; shape only contradicts. 'both': each counts by what it
   * knows, and where fewer than four markers are seen, shape leads on. 'own': what the scanner says of where it is (LiveFrame.at), in whose axes the surface grows;
   * 'both' without a map is that and the shape. 'print': shape, and how bright it is where (LiveFrame.levels). Default 'markers' when there is a map, else 'shape'
   */
  by?: 'shape' | 'markers' | 'both' | 'own' | 'print'
  markers?: MarkerTrackingOptions & { map: KnownMarkers }
  /** how well it says that: needed where it is to hold frames */
  own?: OwnPose
  /** frames are single lines. Default false */
  lines?: boolean
}
