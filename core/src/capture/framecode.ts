import { OakError } from '../base/errors.ts'

/** Points of one frame in scanner coordinates, in the order in which they were measured. xyz: 3N mm. intensity: N, colours: 3N (red, green, blue), or none. */
export interface FramePoints {
  xyz: Float32Array
  intensity?: Uint8Array
  colours?: Uint8Array
}

const VERSION = 1
const HEAD = 12
/** a difference that does not fit one byte is written in four elsewhere */
const ESCAPE = 255
/** how a number is guessed from those before it: not at all, as the last one, or as going on as it did between the last two */
const ORDERS = [0, 1, 2]
/** flags: beside two bits an axis for the guess */
const LIT = 64
const COLOURED = 128
const bytesOf = (flags: number) => 3 + (flags & LIT ? 1 : 0) + (flags & COLOURED ? 3 : 0)

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

/** Where a camera tells colours and says nothing of how bright a point is, its colours tell: weighed as ITU-R BT.601 says. */
export function withBrightness(frame: FramePoints): FramePoints {
  const { intensity, colours } = frame
  if (intensity || !colours) return frame
  return {
    ...frame,
    intensity: Uint8Array.from(
      { length: colours.length / 3 },
      (_, i) => 0.299 * colours[3 * i] + 0.587 * colours[3 * i + 1] + 0.114 * colours[3 * i + 2] + 0.5,
    ),
  }
}

/**
 * A frame as bytes that deflate well: per axis the differences to what the points before let expect (of the three guesses the one that leaves least), zigzag
 * (so that small ones of both signs are small), one byte each, axis after axis; then the intensities as differences, and the channels of colour as differences to
 * the intensity, or where there is none to the point before. Lossless for what was rounded before.
 * Measured with deflate: see npm run bench, part capture.
 */
export function encodeFrame({ xyz, intensity, colours }: FramePoints, step: number): Uint8Array {
  const n = xyz.length / 3
  const s = kept(step)
  const whole = new Int32Array(n)
  const also = (intensity ? LIT : 0) | (colours ? COLOURED : 0)
  const planes = new Uint8Array(bytesOf(also) * n)
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
  if (colours) {
    const at = (intensity ? 4 : 3) * n
    for (let c = 0; c < 3; c++)
      for (let i = 0; i < n; i++) planes[at + c * n + i] = colours[3 * i + c] - (intensity ? intensity[i] : i > 0 ? colours[3 * i + c - 3] : 0)
  }
  const out = new Uint8Array(HEAD + planes.length + 4 * wide.length)
  const view = new DataView(out.buffer)
  view.setUint8(0, VERSION)
  view.setUint8(1, orders | also)
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
  const planes = bytesOf(flags) * n
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
  const out: FramePoints = { xyz }
  let at = HEAD + 3 * n
  if (flags & LIT) {
    const intensity = (out.intensity = new Uint8Array(n))
    for (let i = 0; i < n; i++) intensity[i] = bytes[at + i] + (i > 0 ? intensity[i - 1] : 0)
    at += n
  }
  if (flags & COLOURED) {
    const { intensity } = out
    const colours = (out.colours = new Uint8Array(3 * n))
    for (let c = 0; c < 3; c++)
      for (let i = 0; i < n; i++) colours[3 * i + c] = bytes[at + c * n + i] + (intensity ? intensity[i] : i > 0 ? colours[3 * i + c - 3] : 0)
  }
  return out
}

function guess(whole: Int32Array, i: number, order: number): number {
  if (order === 0 || i === 0) return 0
  return order === 1 || i === 1 ? whole[i - 1] : 2 * whole[i - 1] - whole[i - 2]
}
