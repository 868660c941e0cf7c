import { normalBelow } from '../base/normal.ts'
import { seeded } from '../base/random.ts'
import { invertRigid, multiply } from '../base/mat4.ts'
import { cameraToArray, pixelRay, type Camera } from '../calibrate/camera.ts'
import type { GreyImage } from '../calibrate/image.ts'
import { dotDiameters, plateEdge, platePoints, type Plate } from '../calibrate/plate.ts'

/** What stands before the camera, and how it is lit. */
export interface PlateScene {
  /** nearest first; pose: plate to camera */
  plates: { plate: Plate; pose: ArrayLike<number>; celsius?: number }[]
  /** brightness of white at the middle of the image, grey levels; above 255 it saturates. Default 185 */
  exposure?: number
  /** standard deviation of the blur, px, at the distance `focus` mm; grows away from it. Default 0.7 */
  blur?: number
  focus?: number
  /** standard deviation of the noise, grey levels. Default 2 */
  noise?: number
  /** brightness of the bench behind, as a share of white. Default 0.3 */
  bench?: number
  seed: number
}

const INK = 0.07
/** standard normal numbers, drawn once: images take them from a random place on */
let noiseTable: Float32Array | undefined

/** Directions of all pixels of a camera, 2N; worth keeping while the camera stays the same. */
export function rayTable(camera: Camera): Float64Array {
  const c = cameraToArray(camera)
  const out = new Float64Array(2 * camera.width * camera.height)
  const ray = new Float64Array(2)
  for (let y = 0, at = 0; y < camera.height; y++)
    for (let x = 0; x < camera.width; x++, at += 2) {
      pixelRay(c, x, y, ray)
      out[at] = ray[0]
      out[at + 1] = ray[1]
    }
  return out
}

/**
 * The grey image a camera takes of plates: lens distortion, the ground lit unevenly and darker to the corners, blur of the lens and of the
 * pixel, noise, 8 bits. Edges of dots are the Gaussian-blurred step at the signed distance in the image, exact to first order in
 * the curvature of the edge.
 * rays: rayTable of the camera.
 */
export function plateImage(camera: Camera, rays: Float64Array, scene: PlateScene): GreyImage {
  const { width, height } = camera
  const exposure = scene.exposure ?? 185
  const noise = scene.noise ?? 2
  const bench = scene.bench ?? 0.3
  const data = new Uint8Array(width * height)
  const random = seeded(scene.seed)
  noiseTable ??= Float32Array.from({ length: 1 << 16 }, () => tableRandom.gauss())
  const plates = scene.plates.map((p) => prepared(p, scene))
  // light from the upper left, falling off across the image
  const lx = -0.1 + 0.05 * random.next()
  const ly = -0.07 + 0.05 * random.next()
  // the wood of the bench behind
  const grainX = Float64Array.from({ length: width }, (_, x) => Math.sin((9 * x) / camera.fx))
  for (let y = 0, at = 0; y < height; y++) {
    const grainY = Math.cos((7 * y) / camera.fx)
    let nAt = random.below(1 << 16)
    for (let x = 0; x < width; x++, at++) {
      const a = rays[2 * at]
      const b = rays[2 * at + 1]
      let share = -1
      for (let k = 0; k < plates.length && share < 0; k++) share = brightness(plates[k], a, b, camera.fx)
      if (share < 0) share = bench * (1 + 0.25 * grainX[x] * grainY)
      const r2 = a * a + b * b
      // natural fall-off with the fourth power of the cosine
      const vignette = 1 / ((1 + r2) * (1 + r2))
      const light = 1 + (2 * lx * x) / width + (2 * ly * y) / height + 0.08
      const v = exposure * light * vignette * share
      nAt = (nAt + 1) & 0xffff
      const g = Math.round(v + noise * noiseTable[nAt])
      data[at] = g < 0 ? 0 : g > 255 ? 255 : g
    }
  }
  return { width, height, data }
}
const tableRandom = seeded(77)

interface Prepared {
  /** ray to plate coordinates */
  h: Float64Array
  points: Float64Array
  radii: Float64Array
  columns: number
  rows: number
  pitch: number
  edge: readonly [number, number, number, number]
  sigma: number
  facing: boolean
}

function prepared({ plate, pose, celsius }: PlateScene['plates'][number], scene: PlateScene): Prepared {
  // columns of the pose give the map from the plate's plane to rays; its inverse leads back
  const m = Float64Array.of(pose[0], pose[1], pose[3], pose[4], pose[5], pose[7], pose[8], pose[9], pose[11])
  const z = pose[8] * (plate.columns / 2) * plate.pitch + pose[9] * (plate.rows / 2) * plate.pitch + pose[11]
  const defocus = scene.focus ? 2.2 * Math.abs(1 - scene.focus / z) : 0
  const blur = Math.hypot(scene.blur ?? 0.7, defocus)
  const back = multiply(invertRigid(pose), [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1])
  return {
    h: inverse3(m),
    points: platePoints(plate, celsius),
    radii: dotDiameters(plate).map((d) => d / 2),
    columns: plate.columns,
    rows: plate.rows,
    pitch: plate.pitch,
    edge: plateEdge(plate),
    sigma: Math.sqrt(blur * blur + 1 / 12),
    // seen from behind the print is not there
    facing: back[11] < 0,
  }
}

/** Share of white that a ray meets on a plate; -1 beside it. */
function brightness(p: Prepared, a: number, b: number, focal: number): number {
  const h = p.h
  const w = h[6] * a + h[7] * b + h[8]
  // w is one over the depth
  if (!(w > 0)) return -1
  const X = (h[0] * a + h[1] * b + h[2]) / w
  const Y = (h[3] * a + h[4] * b + h[5]) / w
  if (X < p.edge[0] || Y < p.edge[1] || X > p.edge[2] || Y > p.edge[3]) return -1
  if (!p.facing) return 0.5
  const c = Math.min(p.columns - 1, Math.max(0, Math.round(X / p.pitch)))
  const r = Math.min(p.rows - 1, Math.max(0, Math.round(Y / p.pitch)))
  const id = r * p.columns + c
  const dx = X - p.points[3 * id]
  const dy = Y - p.points[3 * id + 1]
  const d = Math.sqrt(dx * dx + dy * dy)
  const f = p.radii[id] - d
  if (d < 1e-9) return INK
  // slope of the distance in the image, by the chain rule
  const ux = dx / d
  const uy = dy / d
  const ga = (ux * (h[0] - X * h[6]) + uy * (h[3] - Y * h[6])) / w / focal
  const gb = (ux * (h[1] - X * h[7]) + uy * (h[4] - Y * h[7])) / w / focal
  const s = f / Math.sqrt(ga * ga + gb * gb) / p.sigma
  if (s > 4) return INK
  if (s < -4) return 1
  return 1 - (1 - INK) * normalBelow(s)
}

export function inverse3(m: ArrayLike<number>): Float64Array {
  const [a, b, c, d, e, f, g, h, i] = m as Float64Array
  const A = e * i - f * h
  const B = f * g - d * i
  const C = d * h - e * g
  const s = 1 / (a * A + b * B + c * C)
  return Float64Array.of(A, c * h - b * i, b * f - c * e, B, a * i - c * g, c * d - a * f, C, b * g - a * h, a * e - b * d).map((v) => v * s)
}
