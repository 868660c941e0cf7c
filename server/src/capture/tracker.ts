import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { worstUncertainty } from '@oak-gauge/core/markers/markers.ts'
import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import { floorIn } from './choices.ts'
import type { CaptureOptions } from './storepass.ts'
import type { KeptFrames } from './keptframes.ts'
import type { FromTracker, ToTracker, TrackStart } from './trackmessages.ts'

/** Beside this bundle; when the server runs from its sources (tests), where it is built. */
function threadFile(): string {
  const beside = fileURLToPath(new URL('./trackthread.js', import.meta.url))
  return existsSync(beside) ? beside : fileURLToPath(new URL('../../../.build/trackthread.js', import.meta.url))
}

/** With what the thread of a recording is begun. */
export function startOf(o: CaptureOptions, { range, own }: Pick<ScannerSpec, 'range' | 'own'>, version: number): TrackStart {
  const m = o.by === 'own' ? undefined : o.map?.markers
  return {
    by: o.by,
    spacing: o.spacing,
    noise: o.noise,
    lines: o.lines,
    reach: o.near === null && o.far === null ? null : { near: o.near ?? 0, far: o.far ?? Infinity },
    version,
    range,
    stereo: o.stereo,
    ...(own ? { own } : {}),
    floor: floorIn(o),
    map: m
      ? { ids: m.ids, positions: m.positions, normals: m.normals, diameters: m.diameters, sigma: m.ids.map((_, i) => worstUncertainty(m.covariance, i)) }
      : null,
  }
}

export const trackerEnded = (cause?: unknown) =>
  new OakError('tracker-ended', 'What tracks the frames has ended.', { remedy: 'What was recorded is kept: end the recording, and it is solved.', cause })

/** what it tells of frames */
export type Told = Exclude<FromTracker, { type: 'again' }>
/** records that came again and wait in the thread, at the most */
const AHEAD = 64

/** The thread that makes a record of each frame as it comes, and tracks it. */
export class Tracker {
  private readonly heard: (m: Told) => void
  private readonly broke: (e: unknown) => void
  private thread: Worker | undefined
  /** those who wait for the records of their frames, and how many of these are being made */
  private readonly made: (() => void)[] = []
  private making = 0
  /** records that came again and are not tracked yet, and who waits until they are fewer */
  private ahead = 0
  private fewer: (() => void) | undefined
  private again = Promise.resolve()
  /** it broke: nothing is recorded or tracked any more */
  ended = false

  constructor(heard: (m: Told) => void, broke: (e: unknown) => void) {
    this.heard = heard
    this.broke = broke
  }

  /** Begins, or begins anew with other settings: what was tracked so far is forgotten. */
  async begin(start: TrackStart): Promise<void> {
    const before = this.thread
    const thread = (this.thread = new Worker(threadFile(), { workerData: start }))
    this.ended = false
    this.freed(0)
    thread.on('message', (m: FromTracker) => {
      if (m.type === 'record' || m.type === 'refused') {
        this.made.shift()?.()
        this.making--
      }
      // one that was ended may still have something to say; a record is one in any case
      else if (thread !== this.thread) return
      if (m.type === 'again') this.freed(this.ahead - 1)
      else this.heard(m)
    })
    thread.on('error', (e) => {
      if (thread !== this.thread) return
      this.ended = true
      this.making = 0
      this.freed(0)
      this.letGo()
      this.broke(e)
    })
    await before?.terminate()
  }
  private freed(ahead: number): void {
    this.ahead = ahead
    this.fewer?.()
  }

  /** Settles when its record is made. */
  frame(m: Extract<ToTracker, { type: 'frame' }>): Promise<void> {
    this.thread?.postMessage(m, [m.xyz.buffer as ArrayBuffer])
    this.making++
    return new Promise((resolve) => this.made.push(resolve))
  }

  /** What was kept is tracked once more, unless it begins anew before; only a few frames wait in memory. */
  replay(kept: KeptFrames): void {
    const { thread } = this
    this.again = this.replayed(kept).catch((e: unknown) => {
      if (thread === this.thread) this.post({ type: 'replay', on: false })
      this.broke(e)
    })
  }
  private async replayed(kept: KeptFrames): Promise<void> {
    const { thread } = this
    // at once: what came meanwhile would be tracked before what was there
    this.post({ type: 'replay', on: true })
    await kept.whole()
    if (thread !== this.thread) return
    for await (const list of kept.again())
      for (const record of list) {
        if (this.ahead >= AHEAD) await new Promise<void>((resolve) => (this.fewer = resolve))
        if (this.ended || thread !== this.thread) return
        if (kept.isOut(record)) continue
        this.ahead++
        this.post({ type: 'again', record })
      }
    if (thread === this.thread) this.post({ type: 'replay', on: false })
  }
  /** Settles when what comes again was sent to be tracked. */
  replays(): Promise<void> {
    return this.again
  }

  post(m: ToTracker): void {
    if (!this.ended) this.thread?.postMessage(m)
  }
  /** From where it should be seen next: found when what comes again is tracked. */
  look(table?: Extract<ToTracker, { type: 'look' }>['table']): void {
    void this.again.then(() => this.post({ type: 'look', ...(table ? { table } : {}) }))
  }

  /** Nobody waits for a record any more. */
  letGo(): void {
    for (const done of this.made.splice(0)) done()
  }

  /** Every frame that came has its record: before, what is stored is not whole. */
  async allMade(): Promise<void> {
    for (let n = 0; this.making > 0 && n < 250; n++) await new Promise((resolve) => setTimeout(resolve, 20))
  }

  async stop(): Promise<void> {
    this.ended = true
    this.freed(0)
    await this.thread?.terminate()
  }
}
