import { NARROWEST_MARKER, STEEPEST_MARKER } from './spec.ts'
import { invertRigid, multiply, transformPoint } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import { cameraToArray, project, type Stereo } from '../calibrate/camera.ts'
import { triangulate } from '../calibrate/triangulate.ts'
import { castScene, emptyHit, type Thing } from './scene.ts'
import type { ScannerSpec } from './spec.ts'

/** Round white markers with a dark rim as they stick in the world: 3N mm, 3N unit, N mm. */
export interface StuckMarkers {
  positions: ArrayLike<number>
  normals: ArrayLike<number>
  diameters: ArrayLike<number>
}

export interface SeeMarkersOptions {
  /** left camera to world */
  pose: ArrayLike<number>
  /** standard deviation of a centre's pixel coordinate for a marker 8 px wide, px. Default 0.02 */
  noise?: number
  /** share of visible markers that are not found. Default 0.03 */
  dropouts?: number
  /** mean number of things a frame takes for markers that are none: bolt heads, glints. Default 0.02 */
  strays?: number
  seed: number
}

const BORDER = 6
/** mm from a marker at which things begin to hide it: what they stand for may be coarse */
const CLEAR = 0.6

export interface SeenMarkers {
  /** in the believed left camera, 3N mm */
  xyz: Float32Array
  /** N mm */
  diameters: Float32Array
  /** marker of the scene, -1 of a stray: for tests only, never sent */
  truth: Int32Array
}

/**
 * What a pair of cameras makes of the markers before it: hidden ones, those turned away and those outside either image are not seen, centres
 * are located with noise that grows as the ellipse gets narrow, and computed back with the optics that are believed. Deterministic for a seed.
 */
export function seeMarkers(
  spec: Pick<ScannerSpec, 'range'>,
  truth: Stereo,
  believed: Stereo,
  stuck: StuckMarkers,
  things: Thing[],
  o: SeeMarkersOptions,
): SeenMarkers {
  const random = seeded(o.seed)
  const noise = o.noise ?? 0.02
  const [tl, tr, bl, br] = [truth.left, truth.right, believed.left, believed.right].map(cameraToArray)
  const toLeft = invertRigid(o.pose)
  const toRight = multiply(truth.pose, toLeft)
  const eyes = [transformPoint(o.pose, 0, 0, 0), transformPoint(invertRigid(toRight), 0, 0, 0)]
  const xyz: number[] = []
  const diameters: number[] = []
  const ids: number[] = []
  const uv = new Float64Array(2)
  const point = new Float64Array(4)
  const block = emptyHit()
  const limit = Math.cos((STEEPEST_MARKER * Math.PI) / 180)
  const see = (at: ArrayLike<number>, width: number, diameter: number, id: number) => {
    const pixels: number[] = []
    for (const [c, m, size] of [[tl, toLeft, truth.left] as const, [tr, toRight, truth.right] as const]) {
      project(c, ...transformPoint(m, at[0], at[1], at[2]), uv)
      if (!(uv[0] > BORDER && uv[1] > BORDER && uv[0] < size.width - BORDER && uv[1] < size.height - BORDER)) return
      pixels.push(uv[0], uv[1])
    }
    const sigma = noise * Math.sqrt(8 / width)
    const [ul, vl, ur, vr] = pixels.map((p) => p + sigma * random.gauss())
    triangulate(bl, br, believed.pose, ul, vl, ur, vr, point)
    if (!(point[2] > 0)) return
    xyz.push(point[0], point[1], point[2])
    diameters.push(diameter * (1 + (0.4 * noise * random.gauss()) / Math.sqrt(width)))
    ids.push(id)
  }
  for (let i = 0; i < stuck.diameters.length; i++) {
    const at = [0, 1, 2].map((k) => stuck.positions[3 * i + k])
    const z = transformPoint(toLeft, at[0], at[1], at[2])[2]
    if (z < spec.range.near || z > spec.range.far) continue
    let free = true
    let cos = 1
    for (const eye of eyes) {
      const d = [0, 1, 2].map((k) => eye[k] - at[k])
      const l = Math.hypot(d[0], d[1], d[2])
      const u = d.map((v) => v / l)
      const c = u[0] * stuck.normals[3 * i] + u[1] * stuck.normals[3 * i + 1] + u[2] * stuck.normals[3 * i + 2]
      cos = Math.min(cos, c)
      if (c < limit) free = false
      if (!free) break
      block.t = l
      castScene(things, [at[0] + CLEAR * u[0], at[1] + CLEAR * u[1], at[2] + CLEAR * u[2]], u, block)
      if (block.t < l) free = false
    }
    const width = ((stuck.diameters[i] * truth.left.fx) / z) * cos
    // drawn for each marker that is free, seen or not: the random numbers of the others stay the same
    if (!free || width < NARROWEST_MARKER || random.next() < (o.dropouts ?? 0.03)) continue
    see(at, width, stuck.diameters[i], i)
  }
  const strays = o.strays ?? 0.02
  for (let left = strays; left > 0; left--) {
    if (random.next() >= left) continue
    const z = spec.range.near + random.next() * (spec.range.far - spec.range.near)
    const half = (0.4 * truth.left.width * z) / truth.left.fx
    const p = transformPoint(o.pose, (2 * random.next() - 1) * half, (2 * random.next() - 1) * 0.7 * half, z)
    see(p, 8, 2 + 5 * random.next(), -1)
  }
  return { xyz: Float32Array.from(xyz), diameters: Float32Array.from(diameters), truth: Int32Array.from(ids) }
}

/** Where a scanner stands and looks: left camera to world, from a place, towards another, rolled about the line of sight, degrees. */
export function lookingAt(eye: ArrayLike<number>, target: ArrayLike<number>, roll = 0): Float64Array {
  const z = [0, 1, 2].map((k) => target[k] - eye[k])
  const l = Math.hypot(z[0], z[1], z[2])
  const f = z.map((v) => v / l)
  // image down is towards world down, except straight from above
  const up = Math.abs(f[2]) > 0.999 ? [0, 1, 0] : [0, 0, 1]
  let x = [f[1] * up[2] - f[2] * up[1], f[2] * up[0] - f[0] * up[2], f[0] * up[1] - f[1] * up[0]]
  const lx = Math.hypot(x[0], x[1], x[2])
  x = x.map((v) => v / lx)
  const y = [f[1] * x[2] - f[2] * x[1], f[2] * x[0] - f[0] * x[2], f[0] * x[1] - f[1] * x[0]]
  const [c, s] = [Math.cos((roll * Math.PI) / 180), Math.sin((roll * Math.PI) / 180)]
  const xr = x.map((v, k) => c * v + s * y[k])
  const yr = y.map((v, k) => c * v - s * x[k])
  return Float64Array.of(xr[0], yr[0], f[0], eye[0], xr[1], yr[1], f[1], eye[1], xr[2], yr[2], f[2], eye[2], 0, 0, 0, 1)
}
