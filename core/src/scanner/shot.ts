import { GrowF32 } from '../base/arrays.ts'
import { invertRigid, multiply, transformPoint } from '../base/mat4.ts'
import { seeded, type Random } from '../base/random.ts'
import { cameraToArray, pixelRay, project, type Stereo } from '../calibrate/camera.ts'
import { triangulate } from '../calibrate/triangulate.ts'
import { castScene, emptyHit, type Thing } from './scene.ts'
import { bodyToLeft, type ScannerSpec } from './spec.ts'

export interface ShotOptions {
  /** left camera to world */
  pose: ArrayLike<number>
  /** 'area': every part of the image; 'cross': two sets of laser lines; 'line': a single one */
  pattern: 'area' | 'cross' | 'line'
  /** 1: matt white at the ideal distance is well exposed */
  exposure: number
  /** px between samples of an area pattern. Default 3 */
  stride?: number
  /** 0..1: where lines stand between their neighbours */
  phase?: number
  /** standard deviation of a located pixel in good light, px. Default 0.03 */
  noise?: number
  seed: number
}

export interface Shot {
  /** as computed with the believed optics, in the believed left camera, 3N mm */
  xyz: Float32Array
  /** brightness seen, 0..255 */
  intensity: Uint8Array
  /** mean distance by which the two rays of a point pass each other, px: grows when the calibration is off */
  rayGap: number
  /** share of the light that met a surface but was too dark, and that was too bright, 0..1 */
  dark: number
  bright: number
}

const STEEPEST = Math.cos((72 * Math.PI) / 180)
/** white, matt, straight on, ideal distance, exposure 1 */
const WHITE = 200
const DARKEST = 9
/** rays that miss each other by more are taken for two different points, px */
const MISMATCH = 2.5

/**
 * One shot of a stand-in: light from a projector between two cameras, seen by both through their true optics, located with noise
 * that grows in poor light, and computed back with the optics that are believed. What is too dark drops out, what is too bright blooms
 * into false points, what lets light in is seen too deep. Deterministic for a seed.
 */
export function takeShot(spec: ScannerSpec, truth: Stereo, believed: Stereo, things: Thing[], o: ShotOptions): Shot {
  const left = cameraToArray(truth.left)
  const right = cameraToArray(truth.right)
  const bl = cameraToArray(believed.left)
  const br = cameraToArray(believed.right)
  const random = seeded(o.seed)
  const noise = o.noise ?? 0.03
  const toRight = multiply(truth.pose, invertRigid(o.pose))
  const toLeft = invertRigid(o.pose)
  const eyeL = transformPoint(o.pose, 0, 0, 0)
  const eyeR = transformPoint(invertRigid(toRight), 0, 0, 0)
  const lamp = [0, 1, 2].map((k) => (eyeL[k] + eyeR[k]) / 2)
  const hit = emptyHit()
  const block = emptyHit()
  const xyz = new GrowF32()
  const intensity: number[] = []
  const uvL = new Float64Array(2)
  const uvR = new Float64Array(2)
  const point = new Float64Array(4)
  let [gap, lit, dark, bright] = [0, 0, 0, 0]
  const free = (at: number[], to: ArrayLike<number>): boolean => {
    const d = [to[0] - at[0], to[1] - at[1], to[2] - at[2]]
    const l = Math.hypot(d[0], d[1], d[2])
    const u = d.map((v) => v / l)
    block.t = l
    castScene(things, [at[0] + 0.02 * u[0], at[1] + 0.02 * u[1], at[2] + 0.02 * u[2]], u, block)
    return block.t >= l
  }
  for (const { from, direction } of rays(truth, o, left)) {
    hit.t = 1.15 * spec.range.far
    hit.material = undefined
    castScene(things, from, direction, hit)
    const material = hit.material as (typeof hit)['material']
    if (!material) continue
    const at = [0, 1, 2].map((k) => from[k] + hit.t * direction[k])
    const n = [hit.nx, hit.ny, hit.nz]
    const towards = (eye: ArrayLike<number>) => {
      const d = [eye[0] - at[0], eye[1] - at[1], eye[2] - at[2]]
      const l = Math.hypot(d[0], d[1], d[2])
      return { cos: (d[0] * n[0] + d[1] * n[1] + d[2] * n[2]) / l, l, d: d.map((v) => v / l) }
    }
    const a = towards(eyeL)
    const b = towards(eyeR)
    const c = towards(lamp)
    if (Math.min(a.cos, b.cos, c.cos) < STEEPEST) continue
    const pl = transformPoint(toLeft, at[0], at[1], at[2])
    const pr = transformPoint(toRight, at[0], at[1], at[2])
    if (pl[2] < 0.87 * spec.range.near) continue
    project(left, pl[0], pl[1], pl[2], uvL)
    project(right, pr[0], pr[1], pr[2], uvR)
    if (!inside(uvL, truth.left.width, truth.left.height) || !inside(uvR, truth.right.width, truth.right.height)) continue
    if (!free(at, eyeL) || !free(at, eyeR) || !free(at, lamp)) continue
    lit++
    const seen = (view: typeof a) => {
      // light scattered evenly, and the lobe around the mirror direction (Blinn 1977)
      const h = [0, 1, 2].map((k) => view.d[k] + c.d[k])
      const hl = Math.hypot(h[0], h[1], h[2])
      const nh = Math.max(0, (h[0] * n[0] + h[1] * n[1] + h[2] * n[2]) / hl)
      const fall = (spec.range.ideal / c.l) ** 2
      return o.exposure * WHITE * fall * (material.albedo * (1 - 0.9 * material.seeThrough) * c.cos + 2.5 * material.gloss * nh ** 160)
    }
    const level = Math.min(seen(a), seen(b))
    const most = Math.max(seen(a), seen(b))
    if (level < DARKEST) {
      dark++
      continue
    }
    let sigma = noise * Math.sqrt(0.4 + 0.6 * (110 / Math.min(level, 255)))
    if (most > 255) {
      bright++
      // the blob of a saturated line is wide and lopsided; half of them are thrown away as such
      if (random.next() < 0.5) continue
      sigma *= 3 + 6 * Math.min(3, most / 255 - 1)
    }
    if (material.seeThrough > 0) {
      // light comes back from below the surface
      const depth = -0.5 * material.seeThrough * Math.log(1 - random.next())
      const [x, y, z] = at.map((v, k) => v - depth * c.d[k])
      const ql = transformPoint(toLeft, x, y, z)
      const qr = transformPoint(toRight, x, y, z)
      project(left, ql[0], ql[1], ql[2], uvL)
      project(right, qr[0], qr[1], qr[2], uvR)
    }
    triangulate(
      bl,
      br,
      believed.pose,
      uvL[0] + sigma * random.gauss(),
      uvL[1] + sigma * random.gauss(),
      uvR[0] + sigma * random.gauss(),
      uvR[1] + sigma * random.gauss(),
      point,
    )
    const miss = (point[3] / point[2]) * believed.left.fx
    if (!(miss < MISMATCH) || !(point[2] > 0)) continue
    gap += miss
    xyz.push3(point[0], point[1], point[2])
    intensity.push(Math.min(255, level))
  }
  const out = xyz.done()
  return {
    xyz: out,
    intensity: Uint8Array.from(intensity),
    rayGap: out.length ? (3 * gap) / out.length : 0,
    dark: lit ? dark / lit : 0,
    bright: lit ? bright / lit : 0,
  }
}

const inside = (uv: Float64Array, w: number, h: number) => uv[0] >= 0 && uv[1] >= 0 && uv[0] <= w - 1 && uv[1] <= h - 1

interface Ray {
  from: ArrayLike<number>
  direction: ArrayLike<number>
}

/** Rays of a pattern, in world coordinates. The same two arrays each time: read them before going on. */
function* rays(truth: Stereo, o: ShotOptions, left: Float64Array): Generator<Ray> {
  const direction = new Float64Array(3)
  const ray = new Float64Array(2)
  const set = (m: ArrayLike<number>, x: number, y: number, z: number) => {
    const l = 1 / Math.sqrt(x * x + y * y + z * z)
    direction[0] = (m[0] * x + m[1] * y + m[2] * z) * l
    direction[1] = (m[4] * x + m[5] * y + m[6] * z) * l
    direction[2] = (m[8] * x + m[9] * y + m[10] * z) * l
  }
  if (o.pattern === 'area') {
    const stride = o.stride ?? 3
    const from = transformPoint(o.pose, 0, 0, 0)
    const jitter: Random = seeded(o.seed ^ 0x77)
    const [su, sv] = [jitter.next() * stride, jitter.next() * stride]
    for (let v = sv; v < truth.left.height; v += stride)
      for (let u = su; u < truth.left.width; u += stride) {
        pixelRay(left, u, v, ray)
        set(o.pose, ray[0], ray[1], 1)
        yield { from, direction }
      }
    return
  }
  // lines: planes through the lamp, in the body's coordinates
  const body = multiply(o.pose, bodyToLeft(truth))
  const from = transformPoint(body, 0, 0, 0)
  const half = (0.95 * truth.left.width) / 2 / truth.left.fx
  const tall = (0.95 * truth.left.height) / 2 / truth.left.fx
  const lines = o.pattern === 'line' ? 1 : 11
  const spacing = (2 * half) / lines
  // one sample each pixel along a line
  const step = 1 / truth.left.fx
  for (const lean of o.pattern === 'line' ? [0] : [0.42, -0.42])
    for (let k = 0; k < lines; k++) {
      const offset = (k + (o.phase ?? 0.5)) * spacing - half
      for (let y = -tall; y <= tall; y += step) {
        set(body, offset + lean * y, y, 1)
        yield { from, direction }
      }
    }
}
