import { fromRotationVector, invertRigid, multiply, transformPoint, translation, type Mat4 } from '../base/mat4.ts'
import { bodyToLeft, type ScannerSpec } from '../scanner/spec.ts'
import type { Stereo } from './camera.ts'
import { plateNormal } from './bundle.ts'
import type { Plate } from './plate.ts'

/** One pose the plate should be shown in. pose: plate to left camera. */
export interface Target {
  name: string
  pose: number[]
}

const DEGREE = Math.PI / 180

/**
 * Poses that determine the cameras well: straight at three distances, tilted to all sides at each, in the corners of the field, once on
 * its side. In body coordinates (middle between the cameras), so that both cameras see the plate alike.
 */
export function targetPoses(spec: ScannerSpec, stereo: Stereo, plate: Plate): Target[] {
  const { near, ideal, far } = spec.range
  const close = near + 0.25 * (ideal - near)
  const distant = ideal + 0.6 * (far - ideal)
  const wide = (z: number) => Math.max(0, (0.5 * z * stereo.left.width) / stereo.left.fx - 0.42 * plate.columns * plate.pitch)
  const high = (z: number) => Math.max(0, (0.5 * z * stereo.left.height) / stereo.left.fx - 0.42 * plate.rows * plate.pitch)
  const t = (name: string, z: number, tiltX: number, tiltY: number, x = 0, y = 0, roll = 0): Target => ({
    name,
    pose: Array.from(placed(stereo, plate, x * wide(z), y * high(z), z, tiltX, tiltY, roll)),
  })
  return [
    t('straight, ideal distance', ideal, 4, -5),
    t('bottom leant away', ideal, 28, 0),
    t('top leant away', ideal, -28, 0),
    t('left side away', ideal, 0, 26),
    t('right side away', ideal, 0, -26),
    t('near', close, -6, 6),
    t('near, bottom leant away', close, 24, 8),
    t('near, right side away', close, -8, -24),
    t('far', distant, 5, -8),
    t('far, upper left corner', distant, -24, 18, -1, -1),
    t('far, upper right corner', distant, -24, -18, 1, -1),
    t('far, lower left corner', distant, 24, 18, -1, 1),
    t('far, lower right corner', distant, 24, -18, 1, 1),
    t('left in the field', ideal, 12, -20, -1, 0),
    t('right in the field', ideal, -12, 20, 1, 0),
    t('on its side', distant, 22, 20, 0, 0, 90),
  ]
}

/** Plate to left camera, for the plate's middle at (x, y, z) mm of the body, tilted about x and y and rolled about its normal, degrees. */
export function placed(stereo: Stereo, plate: Plate, x: number, y: number, z: number, tiltX: number, tiltY: number, roll: number): Mat4 {
  const turn = multiply(fromRotationVector(tiltX * DEGREE, 0, 0), multiply(fromRotationVector(0, tiltY * DEGREE, 0), fromRotationVector(0, 0, roll * DEGREE)))
  const middle = translation((-(plate.columns - 1) * plate.pitch) / 2, (-(plate.rows - 1) * plate.pitch) / 2, 0)
  return multiply(bodyToLeft(stereo), multiply(translation(x, y, z), multiply(turn, middle)))
}

/** A movement of the plate as the scanner sees it, about the plate's own middle: mm and degrees. */
export interface Movement {
  away: number
  right: number
  down: number
  /** tilts: top, and right side, go away */
  topAway: number
  rightAway: number
  /** clockwise on its face */
  turn: number
}

/** The plate after a movement; poses are plate to body. */
export function movedPlate(plate: Plate, pose: ArrayLike<number>, m: Movement): Mat4 {
  const middle = transformPoint(pose, ((plate.columns - 1) * plate.pitch) / 2, ((plate.rows - 1) * plate.pitch) / 2, 0)
  const turn = multiply(
    fromRotationVector(-m.topAway * DEGREE, 0, 0),
    multiply(fromRotationVector(0, -m.rightAway * DEGREE, 0), fromRotationVector(0, 0, m.turn * DEGREE)),
  )
  const there = translation(middle[0] + m.right, middle[1] + m.down, middle[2] + m.away)
  return multiply(there, multiply(turn, multiply(translation(-middle[0], -middle[1], -middle[2]), pose)))
}

/** How the plate has to be moved from where it is to a target, in words a hand understands. */
export interface Match extends Movement {
  /** how much of each movement may be left over for the pose to be taken */
  good: Movement
  /** 0..1: how near all of them are; at 1 the pose is taken */
  nearness: number
  matched: boolean
}

/** share of the distance by which the plate may be off to any side; degrees it may be tilted and turned otherwise */
const SHIFT = 0.06
const TILT = 6
const TURN = 30

/** Compares the plate's pose with a target; both plate to left camera. */
export function matchPose(stereo: Stereo, plate: Plate, pose: ArrayLike<number>, target: ArrayLike<number>): Match {
  const body = invertRigid(bodyToLeft(stereo))
  const a = multiply(body, pose)
  const b = multiply(body, target)
  const centre = [((plate.columns - 1) * plate.pitch) / 2, ((plate.rows - 1) * plate.pitch) / 2]
  const at = (m: ArrayLike<number>, k: number) => m[4 * k] * centre[0] + m[4 * k + 1] * centre[1] + m[4 * k + 3]
  const d = [0, 1, 2].map((k) => at(b, k) - at(a, k))
  const lean = (m: ArrayLike<number>) => {
    const n = plateNormal(m)
    return [(Math.asin(-n[1]) * 180) / Math.PI, (Math.asin(n[0]) * 180) / Math.PI]
  }
  const [ax, ay] = lean(a)
  const [bx, by] = lean(b)
  const roll = (m: ArrayLike<number>) => (Math.atan2(m[4], m[0]) * 180) / Math.PI
  // upside down does as well: the dots say which way up it is
  const turn = ((((roll(b) - roll(a)) % 180) + 270) % 180) - 90
  const left: Movement = { away: d[2], right: d[0], down: d[1], topAway: ax - bx, rightAway: ay - by, turn }
  const shift = SHIFT * at(b, 2)
  const good: Movement = { away: shift, right: shift, down: shift, topAway: TILT, rightAway: TILT, turn: TURN }
  const worst = Math.max(...(Object.keys(left) as (keyof Movement)[]).map((k) => Math.abs(left[k]) / good[k]))
  return { ...left, good, nearness: worst <= 1 ? 1 : 1 / worst, matched: worst <= 1 }
}
