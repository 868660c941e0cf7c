import { Readable } from 'node:stream'
import { frameOf } from '@oak-gauge/core/formats/markers.ts'
import { identity, invertRigid, multiply, rotateVector, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { levelled } from '@oak-gauge/core/markers/levelled.ts'
import { asKnown, settleBy } from '@oak-gauge/core/markers/mapframes.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import type { SolvedMap } from '@oak-gauge/core/markers/map.ts'
import { mapInput, solveMapKernel } from '@oak-gauge/core/markers/solvemap.ts'
import { makeTracker, type Tracked, type Tracker } from '@oak-gauge/core/markers/tracker.ts'
import type { LinkFrame, MappingRun as RunView } from '@oak-gauge/contract'
import { storeFile } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import type { ScannerRow, SessionRow } from '../db/scannermodels.ts'
import type { Queue } from '../queue.ts'
import { enqueueFile } from '../ledger/enqueue.ts'
import { toProblem } from '../problem.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { FrameLog, takeUp } from '../sessions/framelog.ts'
import { markerFrames, rounded, type MarkerFrame } from '../sessions/frames.ts'
import { openSession, Session } from '../sessions/session.ts'
import { emptyView, mappedMarkers, middleDistance } from './mappingview.ts'
import { Hand } from './hand.ts'
import type { HandMove } from './path.ts'
import { benchOf, onStage, slide, type Stage } from './stage.ts'

export interface MappingOptions {
  job: string
  setup: string
  setupName: string
  target: number
  /** a map to go on from, and the slot it lies in when it is of the same setup: then the new one takes its place */
  known: { markers: Markers; slot: string; replaces: boolean } | null
  stereo: Stereo
  calibration: string
  scale: number
  /** before a stand-in */
  stage: Stage | null
  /** what was planned, in the job, and where it lies */
  plan: { markers: Markers; slot: string } | null
}

/** ms between two solutions while recording */
const SOLVE_EVERY = 1200
/** frames kept at the most: ten minutes at 17 a second, and some */
const MOST_FRAMES = 12_000
/** seconds the scripted hand needs for its path */
const PATH_SECONDS = 18
const STEP = 60

interface Progress {
  phase: 'recording' | 'held' | 'solving'
  /** as it stands after markers were knocked against */
  stage: Stage | null
}

/**
 * The markers of one setup, recorded by themselves: frames are tracked as they come, solved every second or so on another thread, and kept;
 * at the end the recording becomes a file of the job, and a step of its ledger makes the map from it. The step can be repeated with other settings.
 */
export class MappingRun extends Session<RunView, Progress> {
  readonly kind = 'mapping'
  private readonly db: Database
  private readonly queue: Queue
  private readonly o: MappingOptions
  private readonly tracker: Tracker
  private readonly frames: MarkerFrame[] = []
  private frameLog: FrameLog<MarkerFrame>
  private last: Tracked | undefined
  private solved: SolvedMap | undefined
  /** map as tracked to map as shown: found once, so that the picture does not turn under one's eyes */
  private shown: Mat4 | undefined
  private solving = false
  private solvedAt = 0
  private readonly hand: Hand | undefined
  /** ms by which the scanner's clock is set back against that of the frames: it begins anew when a stand-in does */
  private shift = 0

  private constructor(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, db: Database, queue: Queue, o: MappingOptions) {
    super(keeper, scanner, record, emptyView(o, scanner.spec))
    this.db = db
    this.queue = queue
    this.o = o
    this.frameLog = new FrameLog(db.pool, record.id, markerFrames)
    this.hand = o.stage ? new Hand(keeper, scanner, o.stage, PATH_SECONDS, () => this.led()) : undefined
    const known = o.known?.markers
    this.tracker = makeTracker({
      sight: stereoSight(o.stereo),
      ...(known ? { known: asKnown(known) } : {}),
    })
    if (known) this.shown = identity()
  }

  static async start(keeper: ScannerKeeper, scanner: ScannerRow, db: Database, queue: Queue, o: MappingOptions): Promise<MappingRun> {
    return new MappingRun(keeper, scanner, await openSession('mapping', scanner, o, o.job), db, queue, o).launch()
  }

  /** As another process left it: its frames are tracked once more, and it waits for the scanner. */
  static async resume(
    keeper: ScannerKeeper,
    scanner: ScannerRow,
    record: SessionRow,
    db: Database,
    queue: Queue,
    o: MappingOptions,
    progress: Partial<Progress>,
  ): Promise<MappingRun> {
    const stage = progress.stage ?? o.stage
    const run = new MappingRun(keeper, scanner, record, db, queue, { ...o, stage })
    let due = 20
    run.frameLog = await takeUp(db.pool, record.id, markerFrames, async (frames) => {
      for (const f of frames) run.track(f)
      // while it was recorded its map was settled again and again; here as often as the growing map changes much
      if (run.frames.length >= due) {
        due = 2 * run.frames.length
        await run.solve()
      }
    })
    if (run.frames.length) await run.solve()
    run.view.phase = progress.phase === 'held' || progress.phase === 'solving' ? 'held' : 'waiting'
    run.tell()
    if (progress.phase === 'solving') void run.end()
    return run
  }

  async begin(): Promise<void> {
    const link = this.keeper.link(this.scanner.id)
    if (this.o.stage) {
      await this.hand?.take()
      await link.order({ type: 'bench', things: benchOf(this.o.stage) })
    }
    await link.order({ type: 'mode', mode: 'aim' })
  }

  frame(f: LinkFrame): void {
    if (f.kind !== 'points' || this.ended || this.view.phase !== 'recording') return
    const before = this.frames.at(-1)?.time ?? -Infinity
    if (f.time + this.shift <= before) this.shift = before - f.time + STEP
    const frame = { time: f.time + this.shift, markers: rounded(f.seenMarkers ?? []) }
    this.frameLog.add(frame)
    this.track(frame)
    if (this.frames.length >= MOST_FRAMES) void this.hold()
    if (!this.solving && performance.now() - this.solvedAt > SOLVE_EVERY && this.tracker.kept().length > 12) void this.solve()
    this.tell()
  }

  private track(frame: MarkerFrame): void {
    const { time, markers } = frame
    this.frames.push(frame)
    this.last = this.tracker.feed(frameOf(time, markers))
    const { state, fits, why } = this.last
    this.view.frames = this.frames.length
    this.view.lost = this.tracker.lost()
    this.view.tracking = state
    this.view.why = why ?? ''
    this.view.inView = markers.length / 4
    this.view.fits = fits
    this.view.distance = middleDistance(markers)
  }

  override settle(): Promise<void> {
    return this.frameLog.flush()
  }

  /** Solves what there is on another thread; recording goes on. */
  private async solve(): Promise<void> {
    this.solving = true
    try {
      const { known, plan } = this.o
      const input = mapInput(this.tracker, {
        stereo: this.o.stereo,
        scale: this.o.scale,
        range: this.scanner.spec.range,
        ...(known ? { ids: known.markers.ids, before: known.markers } : {}),
        ...(plan ? { plan: plan.markers } : {}),
      })
      const r = await this.keeper.pool.away(solveMapKernel, input)
      if ('error' in r) return
      this.solved = r
      // as planned, once that is known; before, as it lies
      this.shown = known ? this.shown : (r.planned?.pose ?? this.shown ?? levelled(r.markers).pose)
      this.view.absent = r.planned?.absent ?? []
      this.view.added = r.added
      settleBy(this.tracker, r)
      this.view.moved = r.moved.map(({ id, distance, uncertainty, together }) => ({ id, distance, uncertainty, together }))
      this.view.missing = r.missing
    } catch (e) {
      this.view.problem = toProblem(e)
    } finally {
      this.solving = false
      this.solvedAt = performance.now()
    }
  }

  private tell(): void {
    this.view.sequence++
    this.view.markers = mappedMarkers(this.tracker, this.view, { solved: this.solved, last: this.last, shown: this.shown, known: this.o.known?.markers })
    this.view.enough = this.view.markers.filter((m) => m.state === 'enough').length
    if (this.last && this.shown && this.last.state !== 'lost' && this.last.state !== 'few') {
      const back = multiply(this.shown, invertRigid(this.last.pose))
      this.view.scanner = { at: [back[3], back[7], back[11]], looks: rotateVector(back, 0, 0, 1) }
    }
    this.wake()
  }

  /** The state, as soon as it is newer than `after`, or after five seconds. */
  async live(after: number): Promise<RunView> {
    await this.news(() => this.view.sequence > after)
    return this.view
  }

  async hold(): Promise<void> {
    if (this.view.phase !== 'recording' && this.view.phase !== 'waiting') return
    this.view.phase = 'held'
    this.stopPath()
    this.changed()
    await Promise.all([this.note(), this.frameLog.flush()])
  }
  async goOn(): Promise<void> {
    if (this.view.phase !== 'held') return
    this.view.phase = 'recording'
    this.changed()
    await this.note()
    // after a restart nothing was sent yet
    if (this.keeper.of(this.scanner.id).link) await this.begin()
    else this.lost()
  }

  override button(): void {
    const done = this.view.phase === 'held' ? this.goOn() : this.hold()
    done.catch((e: unknown) => (this.view.problem = toProblem(e)))
  }

  private note(): Promise<void> {
    const { phase } = this.view
    return this.save({ phase: phase === 'held' || phase === 'solving' ? phase : 'recording', stage: this.o.stage })
  }

  protected override changed(): void {
    this.tell()
    super.changed()
  }

  private standIn(): Stage {
    if (!this.o.stage) throw new OakError('no-hand', 'A real scanner is moved by hand.', { remedy: 'Move it.' })
    return this.o.stage
  }

  /** The virtual hand. */
  async move(m: HandMove): Promise<void> {
    this.standIn()
    this.view.path = null
    await this.hand?.move(m)
  }

  /** Leads the hand, or the turntable, once round. */
  path(): void {
    this.standIn()
    this.hand?.lead(
      () => (this.view.phase === 'recording' ? 1 : 0),
      (e) => (this.view.problem = toProblem(e)),
    )
    this.changed()
  }
  private led(): void {
    this.view.path = this.hand?.at ?? null
  }

  private stopPath(): void {
    this.hand?.stop()
    this.led()
  }

  /** Somebody knocks against a marker: it slides a little on its ground. Stand-ins only. */
  async nudge(id: string, distance: number): Promise<void> {
    const stage = this.standIn()
    const n = this.tracker.known.findIndex((_, k) => this.nameOf(k) === id)
    if (n < 0) throw new OakError('not-found', `There is no marker ${id} yet.`, { remedy: 'Choose one from the map.' })
    const best = onStage(stage, this.tracker.known, n)
    if (best < 0) throw new OakError('not-found', 'That marker cannot be reached now.', { remedy: 'Record a little longer, then try again.' })
    slide(stage, best, distance)
    await this.note()
    await this.keeper.link(this.scanner.id).order({ type: 'bench', things: benchOf(stage) })
  }

  private nameOf(n: number): string {
    const i = this.solved?.numbers.indexOf(n) ?? -1
    return i >= 0 && this.solved ? this.solved.markers.ids[i] : (this.o.known?.markers.ids[n] ?? '')
  }

  /** The recording becomes a file of the job, and the map a step of its ledger. */
  async end(): Promise<void> {
    if (this.ended || this.view.phase === 'solving') return
    this.stopPath()
    this.view.phase = 'solving'
    this.changed()
    await this.quiet()
    try {
      await Promise.all([this.note(), this.frameLog.flush()])
      if (this.tracker.known.length < 4)
        throw new OakError('too-few-markers', `Only ${this.tracker.known.length} markers were seen.`, {
          remedy: 'A map needs four at the least. Stick more, and record again.',
        })
      const { o, scanner } = this
      const recording = {
        format: 'oak-gauge marker frames',
        version: 1,
        scanner: scanner.name,
        calibration: o.calibration,
        optics: o.stereo,
        range: { near: scanner.spec.range.near, far: scanner.spec.range.far },
        scale: o.scale,
        frames: this.frames.map((f) => ({ time: Math.round(f.time), markers: f.markers })),
      }
      const name = `markers ${o.setupName}.json`
      const file = await storeFile(this.db.pool, name, Readable.from([Buffer.from(JSON.stringify(recording))]))
      const step = await enqueueFile(this.queue, o.job, {
        operation: 'map-markers',
        id: file.id,
        name,
        setup: o.setup,
        params: { name: `Markers, ${o.setupName}`, target: o.target },
        inputs: {
          ...(o.known ? { [o.known.replaces ? 'known' : 'from']: [o.known.slot] } : {}),
          ...(o.plan ? { plan: [o.plan.slot] } : {}),
        },
        recordedWith: null,
        // of the session's own number: one step, however often its end is tried
        request: this.record.id,
      })
      await scanner.update({ usedAt: new Date() })
      this.view.step = step.id
      this.view.phase = 'done'
      await this.close('done')
      // the recording is a file of the job by now
      await this.db.pool.query('delete from session_chunk where session_id = $1', [this.record.id])
    } catch (e) {
      this.view.phase = 'held'
      this.view.problem = toProblem(e)
      await this.note().catch(() => undefined)
    }
    this.changed()
  }

  async cancel(): Promise<void> {
    if (this.ended) return
    this.stopPath()
    await this.close('cancelled')
    await this.quiet()
    this.view.phase = 'failed'
    this.view.problem = toProblem(new OakError('cancelled', 'The mapping was given up.', { remedy: 'Nothing has changed.' }))
    this.changed()
  }

  lost(): void {
    if (this.ended || this.view.phase !== 'recording') return
    // a hand that is led stands still meanwhile, and goes on from there
    this.view.phase = 'waiting'
    this.changed()
  }

  found(): void {
    if (this.ended || this.view.phase !== 'waiting') return
    this.view.phase = 'recording'
    this.begin().catch((e: unknown) => (this.view.problem = toProblem(e)))
    this.changed()
  }
}
