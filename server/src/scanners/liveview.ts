import type { CalibrationRun } from '@oak-gauge/contract'
import { multiply, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { cameraToArray, project, type Camera, type Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import { plateEdge, type Plate } from '@oak-gauge/core/calibrate/plate.ts'
import type { PlateReading } from '@oak-gauge/core/calibrate/readplate.ts'

/** What the browser gets to see of one pair of images: half size, with the dots found and the target's outline, all in px of the half-size image. */
export interface LiveView {
  sequence: number
  sides: { width: number; height: number; grey: Uint8Array; dots: Float32Array; ghost: Float32Array }[]
  state: CalibrationRun
}

export function liveView(
  sequence: number,
  left: GreyImage,
  right: GreyImage,
  l: PlateReading,
  r: PlateReading,
  plate: Plate,
  believed: Stereo,
  target: ArrayLike<number> | null,
  state: CalibrationRun,
): LiveView {
  const side = (image: GreyImage, reading: PlateReading, camera: Camera, pose: ArrayLike<number> | null) => {
    const { width, height, grey } = halved(image)
    return { width, height, grey, dots: Float32Array.from(reading.pixels, (v) => v / 2), ghost: pose ? outline(plate, camera, pose) : new Float32Array(0) }
  }
  return {
    sequence,
    state,
    sides: [side(left, l, believed.left, target), side(right, r, believed.right, target && multiply(believed.pose, target))],
  }
}

function halved({ width, height, data }: GreyImage): { width: number; height: number; grey: Uint8Array } {
  const w = width >> 1
  const h = height >> 1
  const grey = new Uint8Array(w * h)
  for (let y = 0; y < h; y++)
    for (let x = 0; x < w; x++) {
      const at = 2 * y * width + 2 * x
      grey[y * w + x] = (data[at] + data[at + 1] + data[at + width] + data[at + width + 1]) >> 2
    }
  return { width: w, height: h, grey }
}

/** The plate's edge and its large dots as they would be seen: first the four corners, then a point for each large dot. */
function outline(plate: Plate, camera: Camera, pose: ArrayLike<number>): Float32Array {
  const [x0, y0, x1, y1] = plateEdge(plate)
  const points = [[x0, y0], [x1, y0], [x1, y1], [x0, y1], ...plate.large.map(([c, r]) => [c * plate.pitch, r * plate.pitch])]
  const c = cameraToArray(camera)
  const uv = new Float64Array(2)
  const out = new Float32Array(2 * points.length)
  points.forEach(([x, y], i) => {
    project(c, ...transformPoint(pose, x, y, 0), uv)
    out[2 * i] = uv[0] / 2
    out[2 * i + 1] = uv[1] / 2
  })
  return out
}
