import type pg from 'pg'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Spans } from '@oak-gauge/core/capture/timeline.ts'
import { FrameLog, storedBetween, storedFrames, takeUp } from '../sessions/framelog.ts'
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

  constructor(pool: pg.Pool, session: string) {
    this.pool = pool
    this.session = session
    this.log = new FrameLog(pool, session, records)
  }

  /** What another process left. */
  async takeUp(without: Spans): Promise<void> {
    this.line.leaveOut(without)
    this.log = await takeUp(this.pool, this.session, records, (list) => {
      for (const r of list) this.counted(r)
    })
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
    if (!this.log.stored())
      throw new OakError('not-stored', 'The last frames are not in the database yet.', { remedy: 'Nothing is lost. Try it again in a moment.' })
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
