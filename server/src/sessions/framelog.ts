import { deflateRawSync, inflateRawSync } from 'node:zlib'
import type pg from 'pg'
import { log } from '../log.ts'

export interface MarkerFrame {
  /** of the scanner's clock, ms */
  time: number
  /** x, y, z, diameter of each, scanner coordinates, mm */
  markers: number[]
}

/** mm to which sightings are rounded: a hundredth of their noise */
export const QUANTUM = 1e-4
/** ms after which what came is in the database */
const EVERY = 250

/** As stored: what is tracked now and what is read again after a restart are the same numbers. */
export const rounded = (markers: ArrayLike<number>): number[] => Array.from(markers, (v) => Math.round(v / QUANTUM) / 1e4)

/** Frames of a session, written behind as they come, and read again by whoever takes the session over. */
export class FrameLog {
  private readonly pool: pg.Pool
  private readonly session: string
  private n: number
  private waiting: MarkerFrame[] = []
  private writing: Promise<void> = Promise.resolve()
  private timer: NodeJS.Timeout | undefined

  constructor(pool: pg.Pool, session: string, chunks = 0) {
    this.pool = pool
    this.session = session
    this.n = chunks
  }

  add(frame: MarkerFrame): void {
    this.waiting.push(frame)
    this.timer ??= setTimeout(() => void this.flush(), EVERY)
  }

  /** Writes what waits. What cannot be written now waits for the next time. */
  flush(): Promise<void> {
    clearTimeout(this.timer)
    this.timer = undefined
    this.writing = this.writing.then(() => this.write())
    return this.writing
  }

  private async write(): Promise<void> {
    const frames = this.waiting
    if (!frames.length) return
    this.waiting = []
    try {
      // an earlier attempt may have arrived though its answer did not: the longer one holds its frames too
      await this.pool.query(
        'insert into session_chunk (session_id, n, data) values ($1, $2, $3) on conflict (session_id, n) do update set data = excluded.data',
        [this.session, this.n, encodeFrames(frames)],
      )
      this.n++
    } catch (e) {
      log.warn({ err: e, session: this.session }, 'frames wait for the database')
      this.waiting = [...frames, ...this.waiting]
      this.timer ??= setTimeout(() => void this.flush(), 4 * EVERY)
    }
  }
}

/** The stored frames of a session, one chunk after the other. */
export async function* storedFrames(pool: pg.Pool, session: string): AsyncGenerator<MarkerFrame[]> {
  for (let n = 0; ; n++) {
    const r = await pool.query<{ data: Buffer }>('select data from session_chunk where session_id = $1 and n = $2', [session, n])
    const data = r.rows.at(0)?.data
    if (!data) return
    yield decodeFrames(data)
  }
}

/**
 * Frames as bytes: a version, then for each frame its time, its number of markers, and their numbers in steps of QUANTUM; deflated.
 * Measured: 13 to 15 bytes a sighting, 5 MB for ten minutes of forty markers. Differences from frame to frame would halve that, which is worth nothing here.
 */
export function encodeFrames(frames: MarkerFrame[]): Buffer {
  const numbers = frames.reduce((s, f) => s + f.markers.length, 0)
  const raw = Buffer.alloc(10 * frames.length + 4 * numbers)
  let at = 0
  for (const { time, markers } of frames) {
    at = raw.writeDoubleLE(time, at)
    at = raw.writeUInt16LE(markers.length / 4, at)
    for (let i = 0; i < markers.length; i++) at = raw.writeInt32LE(Math.round(markers[i] / QUANTUM), at)
  }
  return Buffer.concat([Buffer.of(1), deflateRawSync(raw)])
}

export function decodeFrames(data: Buffer): MarkerFrame[] {
  const raw = inflateRawSync(data.subarray(1))
  const frames: MarkerFrame[] = []
  for (let at = 0; at < raw.length;) {
    const time = raw.readDoubleLE(at)
    const n = 4 * raw.readUInt16LE(at + 8)
    at += 10
    const markers: number[] = []
    for (let i = 0; i < n; i++, at += 4) markers.push(raw.readInt32LE(at) / 1e4)
    frames.push({ time, markers })
  }
  return frames
}
