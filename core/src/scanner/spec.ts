import { z } from 'zod'
import { fromRotationVector, invertRigid, multiply, translation } from '../base/mat4.ts'
import type { Camera, Stereo } from '../calibrate/camera.ts'

export const cameraSchema = z.object({
  width: z.number().int().min(64).max(16384),
  height: z.number().int().min(64).max(16384),
  fx: z.number().positive(),
  fy: z.number().positive(),
  cx: z.number(),
  cy: z.number(),
  k1: z.number(),
  k2: z.number(),
  p1: z.number(),
  p2: z.number(),
  k3: z.number(),
})
/** Two cameras; pose: 4x4 row major, left camera to right camera, mm. Scanner coordinates are those of the left camera. */
export const stereoSchema = z.object({ left: cameraSchema, right: cameraSchema, pose: z.array(z.number()).length(16) })

/** How well a scanner knows where it is by itself, of its place along each axis, mm, and its turn about each, degrees (standard uncertainty). */
export const ownPose = z.object({ mm: z.number().positive().max(10), degrees: z.number().positive().max(10) })

/** What a scanner says of itself when it is connected. Lengths mm, temperatures °C or K, times as named. */
export const scannerSpec = z.object({
  kind: z.enum(['laser-lines', 'area', 'fringe', 'arm-line']),
  /** the optics as designed: where calibrating starts, and what a plausible result is near to */
  design: stereoSchema,
  range: z.object({ near: z.number().positive(), ideal: z.number().positive(), far: z.number().positive() }),
  patterns: z.array(z.string().min(1)).min(1),
  /** frames of points that make one full measurement when nothing moves */
  shotFrames: z.number().int().min(1).max(200),
  /** while it is moved: frames a second, px by which a place is located in good light, px between samples of an area or along a line */
  moving: z
    .object({
      rate: z.number().positive().max(1000),
      located: z.number().positive().max(1),
      stride: z.number().int().min(1).max(32).optional(),
      along: z.number().int().min(1).max(32).optional(),
    })
    .optional(),
  /** smallest and largest distance between dots of plates that suit the lens */
  platePitch: z.tuple([z.number().positive(), z.number().positive()]),
  /** length of the ball bar that suits the working volume */
  barLength: z.number().positive(),
  needsMarkers: z.boolean(),
  colour: z.boolean(),
  turntable: z.boolean(),
  arm: z.boolean(),
  /** an arm, a turntable: it says with each frame where it is, and so well */
  own: ownPose.optional(),
  /** minutes until warm, and how far lengths at the ideal distance move for one kelvin of its own temperature, mm */
  warmUp: z.object({ minutes: z.number().nonnegative(), driftPerKelvin: z.number().nonnegative() }),
  limits: z.object({
    /** largest root mean square of the reprojection error, px */
    reprojection: z.number().positive(),
    /** largest permitted errors on a ball bar, mm */
    form: z.number().positive(),
    size: z.number().positive(),
    distance: z.number().positive(),
    /** change of the room's temperature after which to calibrate again, K; days between calibrations, and days unused */
    kelvin: z.number().positive(),
    days: z.number().positive(),
    idleDays: z.number().positive(),
  }),
})
export type ScannerSpec = z.output<typeof scannerSpec>

interface Design {
  width: number
  height: number
  /** px */
  focal: number
  /** mm */
  baseline: number
  /** distance at which the two axes cross, mm */
  crossing: number
}

/** The optics of a symmetric design: both cameras turned in so that their axes cross. */
export function designedStereo(d: Design): Stereo {
  const camera: Camera = {
    width: d.width,
    height: d.height,
    fx: d.focal,
    fy: d.focal,
    cx: (d.width - 1) / 2,
    cy: (d.height - 1) / 2,
    k1: 0,
    k2: 0,
    p1: 0,
    p2: 0,
    k3: 0,
  }
  const toe = Math.atan2(d.baseline / 2, d.crossing)
  // body: middle between the cameras, z forward; camera to body
  const left = multiply(translation(-d.baseline / 2, 0, 0), fromRotationVector(0, toe, 0))
  const right = multiply(translation(d.baseline / 2, 0, 0), fromRotationVector(0, -toe, 0))
  return { left: camera, right: { ...camera }, pose: Array.from(multiply(invertRigid(right), left)) }
}

/** Middle between the cameras, its z half way between the two viewing directions: body to left camera, 4x4. */
export function bodyToLeft(s: Stereo): Float64Array {
  const back = invertRigid(s.pose)
  // axes of both cameras in left coordinates: sums of x and z, made square
  const zx = back[2]
  const zy = back[6]
  const zz = 1 + back[10]
  const l = Math.hypot(zx, zy, zz)
  const z3 = [zx / l, zy / l, zz / l]
  let x3 = [back[3], back[7], back[11]]
  const along = x3[0] * z3[0] + x3[1] * z3[1] + x3[2] * z3[2]
  x3 = x3.map((v, i) => v - along * z3[i])
  const lx = Math.hypot(...x3)
  x3 = x3.map((v) => v / lx)
  const y3 = [z3[1] * x3[2] - z3[2] * x3[1], z3[2] * x3[0] - z3[0] * x3[2], z3[0] * x3[1] - z3[1] * x3[0]]
  return Float64Array.of(x3[0], y3[0], z3[0], back[3] / 2, x3[1], y3[1], z3[1], back[7] / 2, x3[2], y3[2], z3[2], back[11] / 2, 0, 0, 0, 1)
}

/** Narrowest ellipse that is still found, px. */
export const NARROWEST_MARKER = 4

/** Beyond this angle between view and normal the ellipse of a flat marker is too thin to be trusted, degrees. */
export const STEEPEST_MARKER = 55
