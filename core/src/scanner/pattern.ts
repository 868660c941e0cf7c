import { invertRigid, transformPoint } from '../base/mat4.ts'
import { seeded } from '../base/random.ts'
import { cameraToArray, pixelRay, type Stereo } from '../calibrate/camera.ts'
import { bodyToLeft } from './spec.ts'

/** Which way light and sight go in one shot, in left camera coordinates. */
export interface Pattern {
  /** where all rays begin, mm */
  from: readonly [number, number, number]
  count: number
  /** direction of ray k (unit): out[0..2] */
  ray(k: number, out: Float64Array): void
}

export interface PatternOptions {
  /** 'area': every part of the image; 'cross': two sets of laser lines; 'line': a single one */
  pattern: 'area' | 'cross' | 'line'
  /** px between samples of an area pattern. Default 3 */
  stride?: number | undefined
  /** px between samples along a line. Default 1 */
  along?: number | undefined
  /** 0..1: where lines stand between their neighbours */
  phase?: number
  seed: number
}

const LINES = 11
/** how far the two sets lean */
const LEAN = 0.42

/** An area is sampled along the sight of the left camera, lines along the light of the lamp between the cameras. */
export function rayPattern(truth: Stereo, o: PatternOptions): Pattern {
  const { left } = truth
  if (o.pattern === 'area') {
    const c = cameraToArray(left)
    const stride = o.stride ?? 3
    const jitter = seeded(o.seed ^ 0x77)
    const [su, sv] = [jitter.next() * stride, jitter.next() * stride]
    const columns = Math.max(0, Math.ceil((left.width - su) / stride))
    const rows = Math.max(0, Math.ceil((left.height - sv) / stride))
    const ray = new Float64Array(2)
    return {
      from: [0, 0, 0],
      count: columns * rows,
      ray(k, out) {
        const row = Math.floor(k / columns)
        pixelRay(c, su + (k - row * columns) * stride, sv + row * stride, ray)
        towards(ray[0], ray[1], out)
      },
    }
  }
  // lines are planes through the lamp, in the coordinates of the body
  const body = bodyToLeft(truth)
  const half = (0.95 * left.width) / 2 / left.fx
  const tall = (0.95 * left.height) / 2 / left.fx
  const lines = o.pattern === 'line' ? 1 : LINES
  const spacing = (2 * half) / lines
  const step = (o.along ?? 1) / left.fx
  const each = Math.floor((2 * tall) / step) + 1
  return {
    from: transformPoint(body, 0, 0, 0),
    count: each * lines * (o.pattern === 'line' ? 1 : 2),
    ray(k, out) {
      const line = Math.floor(k / each)
      const lean = o.pattern === 'line' ? 0 : line < lines ? LEAN : -LEAN
      const y = (k - line * each) * step - tall
      towards(((line % lines) + (o.phase ?? 0.5)) * spacing - half + lean * y, y, out)
      const [x, v, z] = out
      out[0] = body[0] * x + body[1] * v + body[2] * z
      out[1] = body[4] * x + body[5] * v + body[6] * z
      out[2] = body[8] * x + body[9] * v + body[10] * z
    },
  }
}

function towards(x: number, y: number, out: Float64Array): void {
  const l = 1 / Math.sqrt(x * x + y * y + 1)
  out[0] = x * l
  out[1] = y * l
  out[2] = l
}

/** Left camera, right camera and the lamp half way between them, in left camera coordinates, mm. */
export function eyesOf(truth: Stereo): [number, number, number][] {
  const right = transformPoint(invertRigid(truth.pose), 0, 0, 0)
  return [[0, 0, 0], right, [right[0] / 2, right[1] / 2, right[2] / 2]]
}
