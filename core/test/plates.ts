import { fromRotationVector, multiply, transformPoint, type Mat4 } from '../src/base/mat4.ts'
import { cameraToArray, project, type Camera, type Stereo } from '../src/calibrate/camera.ts'
import { plateSchema, type Plate } from '../src/calibrate/plate.ts'
import { plateImage, rayTable, type PlateScene } from '../src/scanner/plateimage.ts'

/** A plate, a pair of cameras with distortion, and images of the one in the other, for tests. */
export const PLATE: Plate = plateSchema.parse({
  format: 'oak-gauge plate',
  version: 1,
  id: 'T12',
  name: 'Test plate 12',
  columns: 19,
  rows: 13,
  pitch: 12,
  diameter: 5,
  largeDiameter: 7.5,
  large: [
    [4, 3],
    [10, 3],
    [4, 8],
  ],
  certificate: { number: 'T', date: '2026-01-10', expansion: 8.7 },
})

export const LEFT: Camera = { width: 1024, height: 768, fx: 1050, fy: 1051, cx: 515, cy: 380, k1: -0.12, k2: 0.05, p1: 0.0005, p2: -0.0003, k3: 0.01 }
export const RIGHT: Camera = { width: 1024, height: 768, fx: 1046, fy: 1047.5, cx: 508, cy: 389, k1: -0.11, k2: 0.04, p1: -0.0005, p2: 0.0003, k3: 0 }
export const STEREO: Stereo = { left: LEFT, right: RIGHT, pose: Array.from(fromRotationVector(0.003, 0.38, -0.002, -140, 0.5, 25)) }

let rays: Float64Array | undefined
export const image = (scene: Partial<PlateScene> & Pick<PlateScene, 'plates'>) => plateImage(LEFT, (rays ??= rayTable(LEFT)), { seed: 5, ...scene })

/** Plate to camera: its middle at (x, y, z), tilted about x and y, rolled; radians. */
export function posed(z: number, tiltX = 0, tiltY = 0, roll = 0, x = 0, y = 0, plate = PLATE): Mat4 {
  const m = multiply(fromRotationVector(tiltX, tiltY, 0), fromRotationVector(0, 0, roll))
  const c = transformPoint(m, ((plate.columns - 1) * plate.pitch) / 2, ((plate.rows - 1) * plate.pitch) / 2, 0)
  m[3] = x - c[0]
  m[7] = y - c[1]
  m[11] = z - c[2]
  return m
}

/** Middle of the image of a circle, by its outline at 720 corners: nothing of the program's own bias formula in it. */
export function outlineCentre(camera: Camera, pose: ArrayLike<number>, x: number, y: number, radius: number): [number, number] {
  const c = cameraToArray(camera)
  const uv = new Float64Array(2)
  const n = 720
  const points = Array.from({ length: n }, (_, k): [number, number] => {
    const t = (2 * Math.PI * k) / n
    project(c, ...transformPoint(pose, x + radius * Math.cos(t), y + radius * Math.sin(t), 0), uv)
    return [uv[0], uv[1]]
  })
  const [x0, y0] = points[0]
  let [area, sx, sy] = [0, 0, 0]
  points.forEach(([ax, ay], k) => {
    const [bx, by] = points[(k + 1) % n]
    const cross = (ax - x0) * (by - y0) - (bx - x0) * (ay - y0)
    area += cross
    sx += cross * (ax + bx - 2 * x0)
    sy += cross * (ay + by - 2 * y0)
  })
  return [x0 + sx / (3 * area), y0 + sy / (3 * area)]
}
