import { FATES, inSpans, orderedSpans, type Fate, type Spans } from '@oak-gauge/core/capture/timeline.ts'
import { TOLD } from './trackmessages.ts'

const number = (f: Fate) => FATES.indexOf(f)
/** time, fate, sigma, known */
const PER = 4

/** How a recording goes, frame by frame, as API.timeline says it. */
export class FrameLine {
  private data = new Float32Array(PER << 10)
  /** what became of each by itself, whatever a person left out */
  private fates = new Uint8Array(1 << 10)
  /** in ms, as the frames say it */
  private readonly at = new Map<number, number>()
  private first = 0
  private last = 0
  private spans: Spans = []

  get count(): number {
    return this.at.size
  }
  private seconds(time: number): number {
    return (time - this.first) / 1000
  }

  /** A frame came: until it is tracked it is late. */
  add(time: number): void {
    const n = this.at.size
    if (n === 0) this.first = time
    this.last = time
    if (PER * (n + 1) > this.data.length) {
      const data = new Float32Array(2 * this.data.length)
      data.set(this.data)
      this.data = data
      const fates = new Uint8Array(2 * this.fates.length)
      fates.set(this.fates)
      this.fates = fates
    }
    this.at.set(time, n)
    this.data.set([this.seconds(time), 0, NaN, 0], PER * n)
    this.become(time, n, number('late'))
  }
  /** What became known of frames: TOLD numbers each. */
  told(list: readonly number[]): void {
    for (let i = 0; i < list.length; i += TOLD) {
      const [time, fate, sigma, known] = list.slice(i, i + TOLD)
      const n = this.at.get(time)
      if (n === undefined) continue
      this.become(time, n, fate)
      if (!Number.isNaN(sigma)) this.data[PER * n + 2] = sigma
      if (!Number.isNaN(known)) this.data[PER * n + 3] = known
    }
  }
  /** The surface began anew: what was placed before is not in it. */
  began(): void {
    for (const [time, n] of this.at) {
      this.data[PER * n + 3] = 0
      if (this.fates[n] === number('placed')) this.become(time, n, number('weak'))
    }
  }
  /** All are tracked once more. */
  beginAnew(): void {
    for (const [time, n] of this.at) {
      this.data.set([NaN, 0], PER * n + 2)
      this.become(time, n, number('late'))
    }
  }
  /** Spans of what was recorded so far, in order: what comes later is not in them, however far somebody drew one. */
  within(spans: Spans): [number, number][] {
    const end = this.seconds(this.last)
    return orderedSpans(spans).flatMap(([a, b]): [number, number][] => (a > end ? [] : [[a, Math.min(b, end)]]))
  }
  /** Gives the first and the last time of frames that are left out with these spans and were not before, or the other way round. */
  leaveOut(spans: Spans): { from: number; to: number } | undefined {
    const before = this.spans
    this.spans = spans
    let changed: { from: number; to: number } | undefined
    for (const [time, n] of this.at) {
      if (this.isOut(time) === inSpans(before, this.seconds(time))) continue
      this.become(time, n, this.fates[n])
      changed = { from: changed?.from ?? time, to: time }
    }
    return changed
  }
  isOut(time: number): boolean {
    return inSpans(this.spans, this.seconds(time))
  }
  since(frame: number): Float32Array {
    return this.data.subarray(PER * Math.min(frame, this.count), PER * this.count)
  }

  private become(time: number, n: number, fate: number): void {
    this.fates[n] = fate
    this.data[PER * n + 1] = this.isOut(time) ? number('out') : fate
  }
}
