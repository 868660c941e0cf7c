import { OakError } from '../base/errors.ts'

/** Points of one frame in scanner coordinates, in the order in which they were measured. xyz: 3N mm. intensity: N, or none. */
export interface FramePoints {
  xyz: Float32Array
  intensity?: Uint8Array
}

const VERSION = 1
const HEAD = 12
/** a difference that does not fit one byte is written in four elsewhere */
const ESCAPE = 255
/** how a number is guessed from those before it: not at all, as the last one, or as going on as it did between the last two */
const ORDERS = [0, 1, 2]

/** Steps are kept in millionths of a millimetre. mm */
export const COARSEST_STEP = 0.065
const kept = (step: number) => Math.min(65_000, Math.max(1, Math.round(step * 1e6))) / 1e6

/**
 * Coordinates as whole steps: what is tracked while recording and what is read again later are the same numbers. A step of a quarter of the noise adds 0.3 % to
 * it. step: mm. Coordinates that are no numbers, or 2^30 steps away, are refused with OakError 'bad-frame'.
 */
export function roundFrame(xyz: Float32Array, step: number): Float32Array {
  const s = kept(step)
  return xyz.map((v) => {
    const k = Math.round(v / s)
    if (!(Math.abs(k) < 2 ** 30))
      throw new OakError('bad-frame', `A frame holds a coordinate of ${v}.`, {
        remedy: 'Look at the program that speaks for the scanner: it must send millimetres.',
      })
    // no negative zero: it would come back as a positive one
    return k * s + 0
  })
}

/**
 * A frame as bytes that deflate well: per axis the differences to what the points before let expect (of the three guesses the one that leaves least), zigzag
 * (so that small ones of both signs are small), one byte each, axis after axis; then the intensities as differences. Lossless for what was rounded before.
 * Measured with deflate: see npm run bench, part capture.
 */
export function encodeFrame({ xyz, intensity }: FramePoints, step: number): Uint8Array {
  const n = xyz.length / 3
  const s = kept(step)
  const whole = new Int32Array(n)
  const planes = new Uint8Array((intensity ? 4 : 3) * n)
  const wide: number[] = []
  let orders = 0
  for (let axis = 0; axis < 3; axis++) {
    for (let i = 0; i < n; i++) whole[i] = Math.round(xyz[3 * i + axis] / s)
    let best = 0
    let least = Infinity
    for (const order of ORDERS) {
      let sum = 0
      for (let i = 0; i < n; i++) sum += Math.min(ESCAPE, Math.abs(whole[i] - guess(whole, i, order)))
      if (sum < least) [best, least] = [order, sum]
    }
    orders |= best << (2 * axis)
    for (let i = 0; i < n; i++) {
      const d = whole[i] - guess(whole, i, best)
      const z = d >= 0 ? 2 * d : -2 * d - 1
      if (z < ESCAPE) planes[axis * n + i] = z
      else {
        planes[axis * n + i] = ESCAPE
        wide.push(d)
      }
    }
  }
  if (intensity) for (let i = 0; i < n; i++) planes[3 * n + i] = intensity[i] - (i > 0 ? intensity[i - 1] : 0)
  const out = new Uint8Array(HEAD + planes.length + 4 * wide.length)
  const view = new DataView(out.buffer)
  view.setUint8(0, VERSION)
  view.setUint8(1, orders | (intensity ? 64 : 0))
  view.setUint16(2, Math.round(s * 1e6), true)
  view.setUint32(4, n, true)
  view.setUint32(8, wide.length, true)
  out.set(planes, HEAD)
  wide.forEach((d, i) => view.setInt32(HEAD + planes.length + 4 * i, d, true))
  return out
}

/** The frame again. Throws OakError 'bad-frame' of bytes that are not a whole frame. */
export function decodeFrame(bytes: Uint8Array): FramePoints {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const broken = (why: string) =>
    new OakError('bad-frame', `A stored frame cannot be read: ${why}.`, { remedy: 'Restore the last backup, or leave this recording out.' })
  if (bytes.length < HEAD) throw broken('it is too short')
  if (view.getUint8(0) !== VERSION) throw broken(`it is of version ${view.getUint8(0)}`)
  const flags = view.getUint8(1)
  const step = view.getUint16(2, true) / 1e6
  const n = view.getUint32(4, true)
  const wide = view.getUint32(8, true)
  const planes = (flags & 64 ? 4 : 3) * n
  if (bytes.length !== HEAD + planes + 4 * wide) throw broken('its length is not the one it states')
  const xyz = new Float32Array(3 * n)
  const whole = new Int32Array(n)
  let next = HEAD + planes
  for (let axis = 0; axis < 3; axis++) {
    const order = (flags >> (2 * axis)) & 3
    for (let i = 0; i < n; i++) {
      const z = bytes[HEAD + axis * n + i]
      let d = z & 1 ? -(z + 1) / 2 : z / 2
      if (z === ESCAPE) {
        if (next + 4 > bytes.length) throw broken('a number is missing')
        d = view.getInt32(next, true)
        next += 4
      }
      whole[i] = guess(whole, i, order) + d
      xyz[3 * i + axis] = whole[i] * step
    }
  }
  if (!(flags & 64)) return { xyz }
  const intensity = new Uint8Array(n)
  for (let i = 0; i < n; i++) intensity[i] = bytes[HEAD + 3 * n + i] + (i > 0 ? intensity[i - 1] : 0)
  return { xyz, intensity }
}

function guess(whole: Int32Array, i: number, order: number): number {
  if (order === 0 || i === 0) return 0
  return order === 1 || i === 1 ? whole[i - 1] : 2 * whole[i - 1] - whole[i - 2]
}
