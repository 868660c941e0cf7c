import { multiply, transformPoint } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import type { StereoObservation } from '../calibrate/calibration.ts'
import { cameraToArray, project, type Camera, type Stereo } from '../calibrate/camera.ts'
import { centreBias } from '../calibrate/centrebias.ts'
import { dotDiameters, platePoints, type Plate } from '../calibrate/plate.ts'

/** px: what reading a dot out of a rendered image is off, see npm run bench, part calibrate */
const DOT_NOISE = 0.006

/**
 * Plate observations without the images: dots projected through the optics, moved by the bias of their ellipse, with the noise that
 * reading them from an image has. For histories and tests of the solver; poses: plate to left camera.
 */
export function rehearseObservations(
  truth: Stereo,
  plate: Plate,
  poses: ArrayLike<number>[],
  celsius: number,
  seed: number,
  noise = DOT_NOISE,
): StereoObservation[] {
  const random = seeded(seed)
  const points = platePoints(plate, celsius)
  const diameters = dotDiameters(plate)
  const side = (camera: Camera, pose: ArrayLike<number>) => {
    const c = cameraToArray(camera)
    const uv = new Float64Array(2)
    const bias = new Float64Array(2)
    const ids: number[] = []
    const pixels: number[] = []
    for (let id = 0; id < diameters.length; id++) {
      const [x, y, z] = [points[3 * id], points[3 * id + 1], points[3 * id + 2]]
      project(c, ...transformPoint(pose, x, y, z), uv)
      if (!(uv[0] > 12 && uv[1] > 12 && uv[0] < camera.width - 12 && uv[1] < camera.height - 12)) continue
      if (plate.pattern === 'dots') centreBias(c, pose, x, y, z, diameters[id] / 2, bias)
      ids.push(id)
      pixels.push(uv[0] + bias[0] + noise * random.gauss(), uv[1] + bias[1] + noise * random.gauss())
    }
    return { ids, pixels }
  }
  return poses.map((p) => ({ left: side(truth.left, p), right: side(truth.right, multiply(truth.pose, p)), celsius }))
}
