import { identity, type Mat4 } from '../base/mat4.ts'
import { bundleAdjust, type PlateView } from './bundle.ts'
import { cameraToArray, type Stereo } from './camera.ts'
import { planePose } from './closedform.ts'
import { platePoints, type Plate } from './plate.ts'
import type { PlateReading } from './readplate.ts'

/**
 * Where the plate is, told by cameras that are held to be known: plate to left camera, and the root mean square of the misfit, px. Either
 * reading may have failed; undefined when both have.
 */
export function platePose(stereo: Stereo, plate: Plate, left: PlateReading, right: PlateReading): { pose: Mat4; rms: number } | undefined {
  const all = platePoints(plate)
  const sighting = (r: PlateReading) => {
    if (r.trouble || r.ids.length < 8) return null
    const points = new Float64Array(3 * r.ids.length)
    r.ids.forEach((id, i) => points.set(all.subarray(3 * id, 3 * id + 3), 3 * i))
    return { points, pixels: r.pixels }
  }
  const cameras = [cameraToArray(stereo.left), cameraToArray(stereo.right)]
  const view: PlateView = [sighting(left), sighting(right)]
  const seen = view[0] ?? view[1]
  if (!seen) return undefined
  const rig = [identity(), Float64Array.from(stereo.pose)]
  // one camera alone: it is the first
  const start = view[0] ? planePose(cameras[0], seen.points, seen.pixels) : undefined
  if (!start) return undefined
  const r = bundleAdjust([view], { cameras, rig, poses: [start] }, { holdAll: true, iterations: 15 })
  return { pose: r.poses[0], rms: r.rms }
}
