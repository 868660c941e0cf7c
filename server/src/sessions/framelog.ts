import type pg from 'pg'
import { log } from '../log.ts'
import { isDiskFull } from '../problem.ts'
import { dropSpool, spool, spooled } from './spool.ts'

/** How the frames of a kind of session become bytes. */
export interface FrameCodec<F> {
  encode(frames: readonly F[]): Buffer
  decode(bytes: Buffer): F[]
}

/** ms after which what came is in the database */
const EVERY = 250

/** Since when frames are not taken, s, and whether it is for want of room. */
export interface Waits {
  seconds: number
  full: boolean
}

/** Frames of a session, written behind as they come, and read again by whoever takes the session over. */
export class FrameLog<F> {
  private readonly pool: pg.Pool
  private readonly session: string
  private readonly codec: FrameCodec<F>
  private n: number
  private waiting: F[] = []
  private writing: Promise<void> = Promise.resolve()
  private timer: NodeJS.Timeout | undefined
  /** what waits is on the disk too */
  private onDisk: boolean
  private refusedAt: number | undefined
  private full = false
  private told: (w: Waits | null) => void = () => undefined

  /** left: what an ended process could not store any more. */
  constructor(pool: pg.Pool, session: string, codec: FrameCodec<F>, chunks = 0, left: F[] = []) {
    this.pool = pool
    this.session = session
    this.codec = codec
    this.n = chunks
    this.waiting = left
    this.onDisk = left.length > 0
    if (left.length) void this.flush()
  }

  add(frame: F): void {
    this.waiting.push(frame)
    this.timer ??= setTimeout(() => void this.flush(), EVERY)
  }

  /** Everything that came is in the database. */
  stored(): boolean {
    return this.waiting.length === 0
  }

  /** told: each time that they are not taken, and null when they are again */
  tell(told: (w: Waits | null) => void): void {
    this.told = told
  }
  waits(): Waits | null {
    return this.refusedAt === undefined ? null : { seconds: (performance.now() - this.refusedAt) / 1000, full: this.full }
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
        [this.session, this.n, this.codec.encode(frames)],
      )
      this.n++
      if (this.onDisk) await dropSpool(this.session)
      this.onDisk = false
      if (this.refusedAt !== undefined) {
        this.refusedAt = undefined
        this.told(null)
      }
    } catch (e) {
      log.warn({ err: e, session: this.session }, 'frames wait for the database')
      this.waiting = [...frames, ...this.waiting]
      this.onDisk = true
      await spool(this.session, this.n, this.codec.encode(this.waiting)).catch((why: unknown) =>
        log.warn({ err: why, session: this.session }, 'nor does the disk take them'),
      )
      this.refusedAt ??= performance.now()
      this.full = isDiskFull(e)
      this.told(this.waits())
      this.timer ??= setTimeout(() => void this.flush(), 4 * EVERY)
    }
  }
}

/** The stored frames of a session, one chunk after the other. */
export async function* storedFrames<F>(pool: pg.Pool, session: string, codec: FrameCodec<F>): AsyncGenerator<F[]> {
  for (let n = 0; ; n++) {
    const r = await pool.query<{ data: Buffer }>('select data from session_chunk where session_id = $1 and n = $2', [session, n])
    const data = r.rows.at(0)?.data
    if (!data) return
    yield codec.decode(data)
  }
}

/** Those chunks of a session that hold frames from one time to another. timeOf: of a frame; frames lie in its order. */
export async function* storedBetween<F>(
  pool: pg.Pool,
  session: string,
  codec: FrameCodec<F>,
  timeOf: (f: F) => number,
  from: number,
  to: number,
): AsyncGenerator<F[]> {
  const chunk = async (n: number): Promise<F[]> => {
    const r = await pool.query<{ data: Buffer }>('select data from session_chunk where session_id = $1 and n = $2', [session, n])
    const data = r.rows.at(0)?.data
    return data ? codec.decode(data) : []
  }
  const { rows } = await pool.query<{ n: number }>('select count(*)::int as n from session_chunk where session_id = $1', [session])
  // the first whose last frame is not before `from`
  let [low, high] = [0, rows[0].n]
  while (low < high) {
    const middle = (low + high) >> 1
    const last = (await chunk(middle)).at(-1)
    if (last !== undefined && timeOf(last) >= from) high = middle
    else low = middle + 1
  }
  for (let n = low; n < rows[0].n; n++) {
    const frames = await chunk(n)
    if (!frames.length || timeOf(frames[0]) > to) return
    yield frames
  }
}

/** Frames of recordings that were given up more than a day ago. Gives how many chunks went. */
export async function sweepFrames(pool: pg.Pool): Promise<number> {
  const r = await pool.query(
    "delete from session_chunk using session s where s.id = session_id and s.state <> 'open' and s.ended_at < now() - interval '1 day'",
  )
  return r.rowCount ?? 0
}

/** Hands over what an ended process stored, and what it could not store any more; gives the log that goes on from there. */
export async function takeUp<F>(pool: pg.Pool, session: string, codec: FrameCodec<F>, each: (frames: F[]) => void | Promise<void>): Promise<FrameLog<F>> {
  let [chunks, ofLast] = [0, 0]
  for await (const frames of storedFrames(pool, session, codec)) {
    await each(frames)
    chunks++
    ofLast = frames.length
  }
  const left = await spooled(session, chunks, ofLast, codec)
  if (left.length) await each(left)
  return new FrameLog(pool, session, codec, chunks, left)
}
