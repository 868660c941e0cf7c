import { z } from 'zod'
import { MATERIALS } from '@oak-gauge/core/scanner/scene.ts'
import { scannerSpec, stereoSchema } from '@oak-gauge/core/scanner/spec.ts'

/**
 * The scanner link, written out for people in docs/scanner-link.md. The scanner (or a bridge to it) listens for WebSocket connections,
 * Oak Gauge connects. Text frames are JSON control messages, binary frames carry images and points.
 */
export const LINK_PROTOCOL = 1
export const LINK_SUBPROTOCOL = 'oak-link.1'
/** ms: until hello, between two state messages, until a command is answered, until one that measures is */
export const LINK_TIMES = { hello: 3000, silence: 3000, answer: 5000, measure: 60_000 } as const
/** frames that are not understood before the connection is given up */
export const LINK_PATIENCE = 3
/** close codes beyond those of the standard */
export const LINK_CLOSE = { inUse: 4001, protocol: 4002, garbage: 4003 } as const

const matrix = z.array(z.number()).length(16)
const time = z.number().nonnegative()
const numbers = (most: number) => z.array(z.number()).max(most)

export const linkCalibration = z.object({
  /** as Oak Gauge named it; empty: the scanner's own, from its making */
  id: z.string().max(80),
  stereo: stereoSchema,
})

/** Scanner to Oak Gauge. */
export const fromScanner = z.discriminatedUnion('type', [
  z.object({
    type: z.literal('hello'),
    protocol: z.literal(LINK_PROTOCOL),
    name: z.string().min(1).max(80),
    model: z.string().max(120),
    serial: z.string().min(1).max(80),
    spec: scannerSpec,
    /** the calibration it computes points with */
    calibration: linkCalibration,
    /** only stand-ins say this: they have a hand that moves them, can be dropped, and a clock that may run faster than the world's */
    standIn: z.object({ clock: z.number().positive() }).optional(),
  }),
  z.object({
    type: z.literal('state'),
    /** ms since the scanner was switched on */
    time,
    /** of the scanner and of the room, °C */
    celsius: z.number(),
    room: z.number(),
    warm: z.boolean(),
    mode: z.enum(['idle', 'images', 'aim', 'record', 'hold']),
    exposure: z.number().positive(),
    pattern: z.string(),
    turn: z.number().optional(),
  }),
  z.object({ type: z.literal('event'), event: z.enum(['shock', 'button']), time }),
  z.object({ type: z.literal('done'), id: z.number().int() }),
  z.object({ type: z.literal('refused'), id: z.number().int(), code: z.string().max(60), message: z.string().max(400) }),
])
export type FromScanner = z.output<typeof fromScanner>
export type Hello = Extract<FromScanner, { type: 'hello' }>
export type ScannerState = Extract<FromScanner, { type: 'state' }>

const id = z.number().int()
/** Oak Gauge to scanner. Every message but welcome and credit has an id and is answered by done or refused. */
export const toScanner = z.discriminatedUnion('type', [
  z.object({ type: z.literal('welcome'), protocol: z.literal(LINK_PROTOCOL), program: z.string() }),
  /** permission for so many binary frames more; none is sent without */
  z.object({ type: z.literal('credit'), frames: z.number().int().min(1).max(1000) }),
  z.object({ type: z.literal('set'), id, exposure: z.number().positive().max(100).optional(), pattern: z.string().optional() }),
  z.object({ type: z.literal('mode'), id, mode: z.enum(['idle', 'images', 'aim', 'record', 'hold']) }),
  z.object({ type: z.literal('use-calibration'), id, calibration: linkCalibration }),
  /** measure now, standing still: so many frames of points, then done */
  z.object({ type: z.literal('shot'), id, frames: z.number().int().min(1).max(200) }),
  /** one pair of images now, then done */
  z.object({ type: z.literal('image'), id }),
  /** turn the table to an angle, degrees; done when it stands */
  z.object({ type: z.literal('turn'), id, degrees: z.number().min(-360).max(360) }),
  // stand-ins only: a real scanner refuses these
  z.object({ type: z.literal('bench'), id, things: z.array(z.unknown()).max(20) }),
  z.object({ type: z.literal('hand'), id, pose: matrix }),
  z.object({ type: z.literal('drop'), id }),
  z.object({ type: z.literal('press'), id }),
])
export type ToScanner = z.output<typeof toScanner>

/** What may stand before a stand-in: things of the demo. Poses and places in the coordinates of its body (middle between the cameras, z forward), mm. */
export const benchThing = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('plate'), plate: z.unknown(), pose: matrix }),
  /** a plate on the turntable */
  z.object({ kind: z.literal('table-plate'), plate: z.unknown() }),
  z.object({ kind: z.literal('bar'), bar: z.unknown(), pose: matrix }),
  /** markers that stick in the world (with a turntable: on it, z up), 3N mm, 3N unit, N mm */
  z.object({ kind: z.literal('markers'), positions: numbers(6000), normals: numbers(6000), diameters: numbers(2000) }),
  /** a body, which hides what is behind it: 3V mm, 3T */
  z.object({
    kind: z.literal('solid'),
    vertices: numbers(400_000),
    triangles: numbers(800_000),
    material: z.enum(Object.keys(MATERIALS) as [keyof typeof MATERIALS]).default('matte'),
    /** it carries blots of that size, mm */
    print: z.number().min(1).max(200).optional(),
  }),
])
export type BenchThing = z.output<typeof benchThing>

export const FRAME_MAGIC = 0x464b414f // "OAKF"
const FRAME_HEADER = 16
export const imageHead = z.object({
  kind: z.literal('image'),
  sequence: z.number().int().nonnegative(),
  time,
  side: z.enum(['left', 'right']),
  width: z.number().int().min(1).max(16384),
  height: z.number().int().min(1).max(16384),
})
export const pointsHead = z.object({
  kind: z.literal('points'),
  sequence: z.number().int().nonnegative(),
  time,
  count: z.number().int().nonnegative().max(5_000_000),
  intensity: z.boolean(),
  colour: z.boolean(),
  markers: z.number().int().nonnegative().max(100_000),
  /** scanner to arm base, of scanners on an arm */
  pose: matrix.optional(),
  /** mean distance by which the rays of a point pass each other, px */
  rayGap: z.number().nonnegative().optional(),
  /** share of the lit surface that was too dark, too bright, 0..1 */
  dark: z.number().min(0).max(1).optional(),
  bright: z.number().min(0).max(1).optional(),
})
export type ImageHead = z.output<typeof imageHead>
export type PointsHead = z.output<typeof pointsHead>
export interface ImageFrame extends ImageHead {
  data: Uint8Array
}
export interface PointsFrame extends PointsHead {
  /** 3 a point, scanner coordinates, mm */
  xyz: Float32Array
  brightness?: Uint8Array
  /** red, green, blue */
  rgb?: Uint8Array
  /** x, y, z, diameter of each marker seen */
  seenMarkers?: Float32Array
}
export type LinkFrame = ImageFrame | PointsFrame

const padded = (n: number) => (n + 3) & ~3

/** Binary frame: magic, version, kind, length of the head; the head as JSON, then the arrays, each padded to four bytes. Little-endian. */
export function packFrame(head: ImageHead | PointsHead, arrays: ArrayBufferView[]): Uint8Array {
  const json = new TextEncoder().encode(JSON.stringify(head))
  const size = FRAME_HEADER + padded(json.length) + arrays.reduce((s, a) => s + padded(a.byteLength), 0)
  const out = new Uint8Array(size)
  const view = new DataView(out.buffer)
  view.setUint32(0, FRAME_MAGIC, true)
  view.setUint16(4, LINK_PROTOCOL, true)
  view.setUint16(6, head.kind === 'image' ? 1 : 2, true)
  view.setUint32(8, json.length, true)
  out.set(json, FRAME_HEADER)
  let at = FRAME_HEADER + padded(json.length)
  for (const a of arrays) {
    out.set(new Uint8Array(a.buffer, a.byteOffset, a.byteLength), at)
    at += padded(a.byteLength)
  }
  return out
}

/** Reads a binary frame. Throws an Error that says what is wrong with it. */
export function unpackFrame(bytes: Uint8Array): LinkFrame {
  if (bytes.length < FRAME_HEADER) throw new Error(`a frame of ${bytes.length} bytes is shorter than its header`)
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  if (view.getUint32(0, true) !== FRAME_MAGIC) throw new Error('the frame does not begin with OAKF')
  if (view.getUint16(4, true) !== LINK_PROTOCOL) throw new Error(`the frame has version ${view.getUint16(4, true)}`)
  const length = view.getUint32(8, true)
  if (FRAME_HEADER + length > bytes.length) throw new Error('the head of the frame is longer than the frame')
  const raw: unknown = JSON.parse(new TextDecoder().decode(bytes.subarray(FRAME_HEADER, FRAME_HEADER + length)))
  let at = FRAME_HEADER + padded(length)
  const take = (n: number): ArrayBuffer => {
    if (at + n > bytes.length) throw new Error(`the frame ends ${at + n - bytes.length} bytes too early`)
    // a copy of its own: slices of a Node buffer share their memory
    const part = new Uint8Array(n)
    part.set(bytes.subarray(at, at + n))
    at += padded(n)
    return part.buffer
  }
  if (view.getUint16(6, true) === 1) {
    const head = imageHead.parse(raw)
    return { ...head, data: new Uint8Array(take(head.width * head.height)) }
  }
  const head = pointsHead.parse(raw)
  const xyz = new Float32Array(take(12 * head.count))
  return {
    ...head,
    xyz,
    ...(head.intensity ? { brightness: new Uint8Array(take(head.count)) } : {}),
    ...(head.colour ? { rgb: new Uint8Array(take(3 * head.count)) } : {}),
    ...(head.markers ? { seenMarkers: new Float32Array(take(16 * head.markers)) } : {}),
  }
}
