import type pg from 'pg'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Spans } from '@oak-gauge/core/capture/timeline.ts'
import { FrameLog, storedBetween, storedFrames, takeUp, type Waits } from '../sessions/framelog.ts'
import { FrameLine } from './frameline.ts'
import { records, timeOf } from './records.ts'

/** Every frame of a recording, as it lies in the database, and how it went. */
export class KeptFrames {
  private readonly pool: pg.Pool
  private readonly session: string
  private log: FrameLog<Uint8Array>
  readonly line = new FrameLine()
  private first: number | undefined
  /** of the newest, ms */
  last = -Infinity
  private bytes = 0
  private readonly told: (w: Waits | null) => void

  /** told: each time that the database does not take what came, and null when it does again */
  constructor(pool: pg.Pool, session: string, told: (w: Waits | null) => void) {
    this.pool = pool
    this.session = session
    this.told = told
    this.log = new FrameLog(pool, session, records)
    this.log.tell(told)
  }

  /** What another process left. */
  async takeUp(without: Spans): Promise<void> {
    this.line.leaveOut(without)
    this.log = await takeUp(this.pool, this.session, records, (list) => {
      for (const r of list) this.counted(r)
    })
    this.log.tell(this.told)
  }

  add(record: Uint8Array): void {
    this.log.add(record)
    this.counted(record)
  }
  private counted(record: Uint8Array): void {
    const time = timeOf(record)
    this.first ??= time
    this.line.add(time)
    this.last = Math.max(this.last, time)
    this.bytes += record.length
  }
  view() {
    const frames = this.line.count
    const seconds = frames ? (this.last - (this.first ?? this.last)) / 1000 : 0
    return { frames, bytes: this.bytes, seconds, rate: seconds > 0 ? (frames - 1) / seconds : 0 }
  }

  flush(): Promise<void> {
    return this.log.flush()
  }
  /** Every frame that came is in the database. Throws 'not-stored' when it did not take them just now: they would be missing in what is read from there. */
  async whole(): Promise<void> {
    await this.flush()
    if (!this.log.stored()) throw notStored(this.log.waits())
  }
  /** Throws 'not-stored' while what came is not taken. */
  taken(): void {
    const waits = this.log.waits()
    if (waits) throw notStored(waits)
  }

  isOut(record: Uint8Array): boolean {
    return this.line.isOut(timeOf(record))
  }
  /** From the first on, up to what is stored by then. */
  again(): AsyncGenerator<Uint8Array[]> {
    this.line.beginAnew()
    return storedFrames(this.pool, this.session, records)
  }
  /** Leaves out what lies in these spans, and takes in what does not any more; gives both, as far as that changes. */
  async *cut(spans: Spans): AsyncGenerator<{ out: Uint8Array[]; in: Uint8Array[] }> {
    const changed = this.line.leaveOut(spans)
    if (!changed) return
    const { from, to } = changed
    for await (const list of storedBetween(this.pool, this.session, records, timeOf, from, to)) {
      const within = list.filter((r) => timeOf(r) >= from && timeOf(r) <= to)
      yield { out: within.filter((r) => this.isOut(r)), in: within.filter((r) => !this.isOut(r)) }
    }
  }
}

/** Frames wait in memory, and beside the database where there is room. */
export function notStored(waits: Waits | null): OakError {
  if (!waits) return new OakError('not-stored', 'The last frames are not in the database yet.', { remedy: 'Nothing is lost. Try it again in a moment.' })
  const why = waits.full ? 'its disk is full' : 'it does not take them'
  return new OakError('not-stored', `For ${Math.round(waits.seconds)} s frames have not come into the database: ${why}.`, {
    remedy: waits.full ? 'Nothing is lost so far. Hold, make room on the disk, and go on.' : 'Nothing is lost so far. See that the database runs, and go on.',
  })
}
