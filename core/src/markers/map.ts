import type { Mat4 } from '../base/mat4.ts'
import type { Stereo } from '../calibrate/camera.ts'
import type { Markers } from './markers.ts'
import type { KeptFrame } from './tracker.ts'

/** What a tracker collected, ready to be solved, in plain arrays: it may go to another thread. */
export interface MapInput {
  frames: KeptFrame[]
  /** by marker, as the tracker numbers them */
  positions: Float64Array
  diameters: Float64Array
  normals: Float64Array
  angles: Float64Array
  /** optics the places were computed with; null: not known, all directions count the same */
  stereo: Stereo | null
  /** relative standard uncertainty of all lengths */
  scale: number
  /** working distance of the scanner: what is outside is not expected to be seen */
  range?: { near: number; far: number }
  ids?: readonly string[]
  /** an earlier map of the same arrangement: what moved since is named as well */
  before?: Markers
  /** what was planned, in the job: markers found where they were planned get their planned names */
  plan?: Markers
}

export interface MovedMarker {
  id: string
  /** mm, and its standard uncertainty */
  distance: number
  uncertainty: number
  shift: [number, number, number]
  /** time of the first frame at the new place, ms; -1: between the map before and this recording */
  time: number
  /** moved the same way as others at the same time: names of them all */
  together: string[]
}

export interface Planned {
  /** map to plan */
  pose: Mat4
  /** mm beside the planned place, by name */
  beside: { id: string; distance: number }[]
  /** planned, and not in the map */
  absent: string[]
}

export interface SolvedMap {
  markers: Markers
  /** by marker of the map: number the tracker knows it by */
  numbers: number[]
  /** by marker: rms of its residuals, mm; widest angle between the views of it, degrees */
  residuals: number[]
  angles: number[]
  moved: MovedMarker[]
  /** of an earlier map, not seen this time, kept as they were; and why the earlier map could not be used */
  kept: string[]
  apart: string
  /** not in the earlier map, or not in the plan: names */
  added: string[]
  /** how the map lies on the plan; null: there is none, or they do not agree */
  planned: Planned | null
  /** seen before, and not where it should be seen: names */
  missing: string[]
  /** numbers of the tracker that turned out to be one marker: the first stays */
  doubles: [number, number][]
  /** seen by too few frames to be a marker: number of them */
  dropped: number
  frames: number
  sightings: number
  rejected: number
  /** noise of a sighting (px for cameras), rms of the residuals mm */
  sigma: number
  rms: number
  /** rms over the markers of the uncertainty in the worst direction, mm */
  uncertainty: number
}
