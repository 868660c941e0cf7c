import { f32, u8 } from '../base/arrays.ts'
import { OakError } from '../base/errors.ts'
import { transformArray, transformPoint } from '../base/mat4.ts'
import { select } from '../base/stats.ts'

/** Measured points of one pass, in the coordinates they were captured in (mm). Immutable by convention. */
export interface Points {
  readonly kind: 'points'
  /** 3N */
  readonly xyz: Float32Array
  /** 3N unit vectors out of the material */
  readonly normals?: Float32Array
  /** 3N, 0..255 */
  readonly colours?: Uint8Array
  /** Where the scanner stood, when known: tells outside from inside, and how slanting each point was seen. */
  readonly viewpoint?: readonly [number, number, number]
}

/** Something with the pose that brings it from its own coordinates into the job's. */
export interface Placed<T> {
  readonly name: string
  readonly data: T
  readonly pose: Float64Array
  /** the setup it was recorded in, by any name: passes of one setup are right against one another but for the scanner's tracking error */
  readonly setup?: string
}

export const pointCount = (p: Points) => p.xyz.length / 3

export type Box = Float64Array

/** [minx, miny, minz, maxx, maxy, maxz] of 3N coordinates; infinities the wrong way round when there are none. */
export function boundingBox(xyz: ArrayLike<number>): Box {
  let [ax, ay, az, bx, by, bz] = [Infinity, Infinity, Infinity, -Infinity, -Infinity, -Infinity]
  for (let i = 0; i < xyz.length; i += 3) {
    const x = xyz[i]
    const y = xyz[i + 1]
    const z = xyz[i + 2]
    if (x < ax) ax = x
    if (x > bx) bx = x
    if (y < ay) ay = y
    if (y > by) by = y
    if (z < az) az = z
    if (z > bz) bz = z
  }
  return Float64Array.of(ax, ay, az, bx, by, bz)
}

export const boxDiagonal = (b: ArrayLike<number>) => Math.hypot(b[3] - b[0], b[4] - b[1], b[5] - b[2])

/** The points whose keep flag is not 0. Throws OakError 'nothing-left' when that is none. */
export function keepPoints(points: Points, keep: Uint8Array, what = 'this step'): Points {
  let n = 0
  for (let i = 0; i < keep.length; i++) if (keep[i]) n++
  if (n === 0)
    throw new OakError('nothing-left', `No point would be left after ${what}.`, {
      remedy: 'Loosen the setting, or turn the selection round.',
    })
  const pick = <A extends Float32Array | Uint8Array>(src: A | undefined, dst: A): A | undefined => {
    if (!src) return undefined
    for (let i = 0, o = 0; i < keep.length; i++)
      if (keep[i]) {
        dst[o++] = src[3 * i]
        dst[o++] = src[3 * i + 1]
        dst[o++] = src[3 * i + 2]
      }
    return dst
  }
  return makePoints({
    xyz: pick(points.xyz, f32(3 * n)) as Float32Array,
    normals: points.normals && pick(points.normals, f32(3 * n)),
    colours: points.colours && pick(points.colours, u8(3 * n)),
    viewpoint: points.viewpoint,
  })
}

/** Points in the coordinates that `pose` brings them to, with normals and the place of the scanner: what a file gets, which holds no pose. */
export function placePoints(points: Points, pose: ArrayLike<number>): Points {
  const { xyz, normals, viewpoint: v } = points
  return makePoints({
    ...points,
    xyz: transformArray(pose, xyz, f32(xyz.length)),
    normals: normals && transformArray(pose, normals, f32(normals.length), true),
    viewpoint: v && transformPoint(pose, v[0], v[1], v[2]),
  })
}

/**
 * The box that holds all but the farthest points, 3 numbers each for least and largest: strays must not rule sizes, grids and levers.
 * From the middle 99.8 % of a sample along each axis, grown by a tenth; never larger than the true box, and the true box itself where that is
 * not much larger (below three times along every axis).
 */
export function coreBox(xyz: ArrayLike<number>, sample = 20_000): Box {
  const whole = boundingBox(xyz)
  const n = xyz.length / 3
  if (n < 100) return whole
  const step = Math.max(1, Math.floor(n / sample))
  const m = Math.ceil(n / step)
  const values = new Float64Array(m)
  const out = Float64Array.from(whole)
  let strays = false
  for (let k = 0; k < 3; k++) {
    for (let i = 0; i < m; i++) values[i] = xyz[3 * i * step + k]
    const cut = Math.max(1, Math.floor(0.001 * m))
    const lo = select(values, cut)
    const hi = select(values, m - 1 - cut)
    const grow = 0.1 * (hi - lo)
    out[k] = Math.max(whole[k], lo - grow)
    out[k + 3] = Math.min(whole[k + 3], hi + grow)
    if (whole[k + 3] - whole[k] > 3 * (out[k + 3] - out[k])) strays = true
  }
  return strays ? out : whole
}

/** Leaves undefined parts out altogether, as exact optional types want it. */
export function makePoints(parts: {
  xyz: Float32Array
  normals?: Float32Array | undefined
  colours?: Uint8Array | undefined
  viewpoint?: readonly [number, number, number] | undefined
}): Points {
  return {
    kind: 'points',
    xyz: parts.xyz,
    ...(parts.normals ? { normals: parts.normals } : {}),
    ...(parts.colours ? { colours: parts.colours } : {}),
    ...(parts.viewpoint ? { viewpoint: parts.viewpoint } : {}),
  }
}
