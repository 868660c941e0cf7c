import { deflateSync, inflateSync } from 'fflate'
import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { identity, isRigid, type Mat4 } from '../base/mat4.ts'
import { decodeFrame, encodeFrame, roundFrame, withBrightness, type FramePoints } from '../capture/framecode.ts'
import { ownPose, stereoSchema } from '../scanner/spec.ts'
import { ByteReader, eachLine, truncated, type ByteSource } from './source.ts'

/**
 * A recording: frames of points and markers as a scanner sent them, in its own coordinates. The file, little-endian: one line of JSON (the head), then one record
 * a frame: its length without these four bytes (u32), its time (f64, ms), its number of markers n (u16; 32768 more where the scanner said where it was), x y z and
 * diameter of each in steps of 0.1 um (4 n times i32), where the scanner said that it was (twelve f64: three rows of its pose), and the points, as framecode.ts
 * writes them, deflated (RFC 1951). Written out for people in docs/formats.md.
 */
export const RECORDING = 'oak-gauge recording'
/** mm of a step in which markers are kept: a hundredth of their noise */
export const MARKER_STEP = 1e-4
const FIXED = 10
/** bit of the number of markers that tells of a pose; bytes of one */
const POSED = 0x8000
const POSE = 96

const headSchema = z.object({
  format: z.literal(RECORDING),
  /** 1: none of its frames has a pose */
  version: z.union([z.literal(1), z.literal(2)]),
  /** of the scanner, and the calibration its points were computed with */
  scanner: z.string().max(200),
  calibration: z.string().max(80).default(''),
  /** what tells how well a marker is seen; without it markers are taken as known alike in all directions */
  optics: stereoSchema.optional(),
  range: z.object({ near: z.number().positive(), ideal: z.number().positive(), far: z.number().positive() }),
  /** of a point across its surface at the ideal distance, mm */
  noise: z.number().positive().max(10),
  /** how well the scanner knows where it is by itself: an arm, a turntable */
  own: ownPose.optional(),
  /** each frame is a single line */
  lines: z.boolean().default(false),
})
export type RecordingHead = z.output<typeof headSchema>

/** A frame as it lies in the file: its points are decoded when they are asked for. */
export interface RecordedFrame {
  time: number
  markers: { xyz: Float32Array; diameters: Float32Array }
  points(): FramePoints
  /** where the scanner said that it was, as in LiveFrame */
  at?: Mat4
}

/** Frames in the order of time, in scanner coordinates, and what is known of them. */
export interface Frames extends Pick<RecordingHead, 'noise' | 'own' | 'optics' | 'lines'> {
  frames: RecordedFrame[]
  /** of the surface that they are dense enough for, mm; undefined where nothing tells */
  spacing?: number | undefined
  /** for people: what was not said, and what was taken in its place */
  warnings: string[]
}

export const recordingHead = (head: Omit<z.input<typeof headSchema>, 'format' | 'version'>): Uint8Array =>
  new TextEncoder().encode(`${JSON.stringify({ format: RECORDING, version: 2, ...head })}\n`)

/** A record. markers: x y z and diameter of each, mm; deflated: what encodeFrame gave, deflated; at: where the scanner said that it was. */
export function recordOf(time: number, markers: ArrayLike<number>, deflated: Uint8Array, at?: ArrayLike<number>): Uint8Array {
  const points = 4 + FIXED + 4 * markers.length + (at ? POSE : 0)
  const out = new Uint8Array(points + deflated.length)
  const view = new DataView(out.buffer)
  view.setUint32(0, out.length - 4, true)
  view.setFloat64(4, time, true)
  view.setUint16(12, (markers.length / 4) | (at ? POSED : 0), true)
  for (let i = 0; i < markers.length; i++) view.setInt32(14 + 4 * i, Math.round(markers[i] / MARKER_STEP), true)
  if (at) for (let k = 0; k < 12; k++) view.setFloat64(14 + 4 * markers.length + 8 * k, at[k], true)
  out.set(deflated, points)
  return out
}

/** A record again, without its first four bytes. */
export function frameOfRecord(bytes: Uint8Array): RecordedFrame {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const told = bytes.length < FIXED ? NaN : view.getUint16(8, true)
  const n = told & (POSED - 1)
  const from = FIXED + 16 * n
  const points = from + (told & POSED ? POSE : 0)
  const time = bytes.length < FIXED ? NaN : view.getFloat64(0, true)
  if (!(points <= bytes.length) || !Number.isFinite(time)) throw broken('a record is not as long as it says')
  const markers = { xyz: new Float32Array(3 * n), diameters: new Float32Array(n) }
  for (let i = 0; i < n; i++) {
    const at = FIXED + 16 * i
    for (let k = 0; k < 3; k++) markers.xyz[3 * i + k] = view.getInt32(at + 4 * k, true) * MARKER_STEP
    markers.diameters[i] = view.getInt32(at + 12, true) * MARKER_STEP
  }
  let at: Mat4 | undefined
  if (told & POSED) {
    at = identity()
    for (let k = 0; k < 12; k++) at[k] = view.getFloat64(from + 8 * k, true)
    if (!isRigid(at)) throw broken(`where the scanner said it was at ${Math.round(time)} ms is no place: its turn is none`)
  }
  const deflated = bytes.subarray(points)
  return {
    time,
    markers,
    ...(at ? { at } : {}),
    points() {
      let raw: Uint8Array
      try {
        raw = inflateSync(deflated)
      } catch (e) {
        throw broken(`the points of the frame at ${Math.round(time)} ms cannot be read (${e instanceof Error ? e.message : 'damaged'})`)
      }
      return decodeFrame(raw)
    },
  }
}

/** mm: nothing is measured better than four of them */
const KEPT_STEP = 0.001

/** A frame that did not come from a recording, kept as one would keep it: a thousand of them fit into memory. markers: as in recordOf; at: as in LiveFrame. */
export function keepFrame(time: number, points: FramePoints, markers: ArrayLike<number>, at?: Mat4): RecordedFrame {
  const kept = withBrightness({ ...points, xyz: roundFrame(points.xyz, KEPT_STEP) })
  const deflated = deflateSync(encodeFrame(kept, KEPT_STEP), { level: 1 })
  return frameOfRecord(recordOf(time, markers, deflated, at).subarray(4))
}

const broken = (why: string) => new OakError('bad-recording', `This recording is damaged: ${why}.`, { remedy: 'Copy it again from where it was made.' })

/** Whether bytes are the beginning of a recording. */
export const isRecording = (first: Uint8Array): boolean => new TextDecoder().decode(first.subarray(0, 200)).includes(`"format":"${RECORDING}"`)

/** Most bytes of a frame: five million points that do not deflate at all. */
const MOST = 64 * 1024 ** 2
/** a head is a page of numbers */
const LONGEST_HEAD = 100_000

/**
 * Reads a recording, frame by frame in the order of time. Throws 'bad-recording' where it is none or is damaged, 'truncated' where it ends within a
 * frame: what is before that can be had with `until` (called with each frame as it comes).
 */
export async function readRecording(source: ByteSource, until?: (frame: RecordedFrame) => void): Promise<{ head: RecordingHead; frames: RecordedFrame[] }> {
  const reader = new ByteReader(source)
  try {
    let text = ''
    await eachLine(reader, (b, from, to) => {
      text = new TextDecoder().decode(b.subarray(from, Math.min(to, from + LONGEST_HEAD)))
      return true
    })
    let raw: unknown
    try {
      raw = JSON.parse(text)
    } catch {
      throw new OakError('bad-recording', 'This is no recording of frames.', {
        where: source.name,
        remedy: 'Bring in a recording, or scans as points or meshes.',
      })
    }
    const head = headSchema.safeParse(raw)
    if (!head.success) {
      const issue = head.error.issues[0]
      throw new OakError('bad-recording', `The first line of this recording is not understood: ${issue.message}.`, {
        where: `${source.name}, ${issue.path.join('.') || 'first line'}`,
        remedy: 'See docs/formats.md for what it must say.',
      })
    }
    const frames: RecordedFrame[] = []
    let last = -Infinity
    while (await reader.fill(1)) {
      if (!(await reader.fill(4))) throw truncated('within the length of a frame', source.name)
      const { buffer: b, pos } = reader
      const length = (b[pos] | (b[pos + 1] << 8) | (b[pos + 2] << 16) | (b[pos + 3] << 24)) >>> 0
      if (length > MOST) throw broken(`frame ${frames.length + 1} says it has ${length} bytes`)
      if (!(await reader.fill(4 + length))) throw truncated(`within frame ${frames.length + 1}`, source.name)
      // a copy: the buffer goes
      const frame = frameOfRecord(reader.buffer.slice(reader.pos + 4, reader.pos + 4 + length))
      reader.pos += 4 + length
      if (!(frame.time > last)) throw broken(`frame ${frames.length + 1} is not later than the one before`)
      last = frame.time
      frames.push(frame)
      until?.(frame)
    }
    return { head: head.data, frames }
  } finally {
    await reader.close()
  }
}
