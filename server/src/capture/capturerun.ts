import { OakError, receiveError } from '@oak-gauge/core/base/errors.ts'
import type { Mat4 } from '@oak-gauge/core/base/mat4.ts'
import type { Spans } from '@oak-gauge/core/capture/timeline.ts'
import type { CaptureRun as RunView, FloorRequest, LightRequest, LinkFrame, PlaceAnew } from '@oak-gauge/contract'
import type { Database } from '../db/connect.ts'
import type { ScannerRow, SessionRow } from '../db/scannermodels.ts'
import { Hand, inStep } from '../markers/hand.ts'
import type { HandMove } from '../markers/path.ts'
import { benchOf } from '../markers/stage.ts'
import { middleDistance } from '../markers/mappingview.ts'
import { toProblem } from '../problem.ts'
import type { Queue } from '../queue.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { standing } from '../scanners/summary.ts'
import { rounded } from '../sessions/frames.ts'
import type { Waits } from '../sessions/framelog.ts'
import { openSession, Session } from '../sessions/session.ts'
import { emptyView, floorChosen, Model, placedAnew, tracked } from './captureview.ts'
import { checkFloor, chosenOf, floorIn, NO_FLOOR, type Chosen } from './choices.ts'
import { KeptFrames, notStored } from './keptframes.ts'
import { Light } from './light.ts'
import { inMap, storePass, type CaptureOptions } from './storepass.ts'
import { startOf, Tracker, trackerEnded, type Told } from './tracker.ts'
import { plannedTable, Turntable, type TableHost, type TableProgress } from './turntable.ts'

interface Progress {
  phase: 'ready' | 'recording' | 'held' | 'solving'
  /** s since the first frame, from and to */
  without: [number, number][]
  table?: TableProgress | undefined
  /** what was chosen anew since it began */
  chosen?: Chosen | undefined
  autoExposure?: boolean | undefined
}

/** Frames on end that do not lie on what was recorded, and it holds by itself. */
const HOLDS_AFTER = 12
/** s after which it is said that the database takes no frames, and after which it is held: a database that begins anew takes less */
const SAYS_AFTER = 2
const WAITS = 20
/** ms between frames that a scanner's clock begins anew behind */
const STEP = 60
/** seconds of the scripted hand */
const PATH_SECONDS = 40

/**
 * Points and markers recorded while a scanner is moved: a thread makes a record of each frame as it comes, which is stored, and tracks it, which is shown; at the end
 * the recording becomes a file of the job, and a step of its ledger places all its frames anew. So nothing that is shown while recording is lost with a process,
 * and nothing of it decides the pass.
 */
export class CaptureRun extends Session<RunView, Progress> {
  readonly kind = 'capture'
  private readonly db: Database
  private readonly queue: Queue
  private o: CaptureOptions
  private readonly hand: Hand | undefined
  private readonly table: Turntable | undefined
  private readonly tracker: Tracker
  private readonly light: Light
  readonly kept: KeptFrames
  readonly model = new Model()
  /** when frames came that are not tracked yet, and where the virtual hand was then */
  private readonly came = new Map<number, { at: number; hand: Mat4 | undefined }>()
  /** of the newest that came, ms */
  private lastTime = -Infinity
  /** scanner to model, as the last steady frame had it */
  private pose: Mat4 | undefined
  /** ms by which the scanner's clock is set back against that of the frames: it begins anew when a stand-in does */
  private shift = 0

  private constructor(
    keeper: ScannerKeeper,
    scanner: ScannerRow,
    record: SessionRow,
    db: Database,
    queue: Queue,
    o: CaptureOptions,
    was: Partial<Progress> = {},
  ) {
    super(keeper, scanner, record, emptyView(o, scanner.spec))
    this.db = db
    this.queue = queue
    this.o = o
    this.kept = new KeptFrames(db.pool, record.id, (w) => this.waits(w))
    const { turntable, shotFrames } = scanner.spec
    this.hand = o.stage && !turntable ? new Hand(keeper, scanner, o.stage, PATH_SECONDS, () => this.tell()) : undefined
    this.table = turntable ? new Turntable(this.forTable(shotFrames), was.table ?? plannedTable(o.angles)) : undefined
    this.light = new Light(keeper, scanner.id, scanner.spec.patterns, was.autoExposure ?? false)
    this.tracker = new Tracker(
      (m) => this.heard(m),
      (e) => void this.broke(e),
    )
    void this.tracking()
  }
  private tracking(): Promise<void> {
    return this.tracker.begin(startOf(this.o, this.scanner.spec, this.model.version + 1))
  }

  static async start(keeper: ScannerKeeper, scanner: ScannerRow, db: Database, queue: Queue, o: CaptureOptions): Promise<CaptureRun> {
    return new CaptureRun(keeper, scanner, await openSession('capture', scanner, o, o.job), db, queue, o).launch()
  }

  /** As another process left it: its frames are tracked once more, and it is held until somebody goes on. */
  static async resume(
    keeper: ScannerKeeper,
    scanner: ScannerRow,
    record: SessionRow,
    db: Database,
    queue: Queue,
    o: CaptureOptions,
    progress: Partial<Progress>,
  ): Promise<CaptureRun> {
    const { phase, without = [] } = progress
    const run = new CaptureRun(keeper, scanner, record, db, queue, { ...NO_FLOOR, ...o, ...progress.chosen }, progress)
    run.view.without = without
    await run.kept.takeUp(without)
    run.lastTime = run.kept.last
    run.view.phase = phase === 'recording' ? 'waiting' : phase === 'solving' ? 'held' : (phase ?? 'ready')
    run.tell()
    run.tracker.replay(run.kept)
    if (run.view.phase === 'held') run.look()
    if (phase === 'solving') void run.end()
    return run
  }

  async begin(): Promise<void> {
    const link = this.keeper.link(this.scanner.id)
    if (this.o.stage) {
      await this.hand?.take()
      await link.order({ type: 'bench', things: benchOf(this.o.stage) })
    }
    // it is asked for each shot
    if (this.table) return
    const aims = !this.o.stage || this.o.stage.positions.length > 0
    await link.order({ type: 'mode', mode: this.view.phase === 'recording' ? 'record' : this.view.phase === 'ready' && aims ? 'aim' : 'idle' })
  }

  /** Settles when its record is made: the next ones are asked for then. */
  frame(f: LinkFrame): void | Promise<void> {
    if (f.kind !== 'points' || this.ended) return
    const markers = rounded(f.seenMarkers ?? [])
    this.view.inView = markers.length / 4
    if (this.view.phase !== 'recording') {
      if (this.view.phase === 'ready') this.view.distance = middleDistance(markers)
      return this.tell()
    }
    // a stand-in's clock may run faster than the hand that leads it
    const said = f.time / (this.keeper.of(this.scanner.id).clock ?? 1)
    if (said + this.shift <= this.lastTime) this.shift = this.lastTime - said + STEP
    const time = said + this.shift
    this.lastTime = time
    this.came.set(time, { at: performance.now(), hand: this.hand?.where() })
    this.light.frame(f, (e) => (this.view.problem = toProblem(e)), this.pose)
    const { xyz, brightness, rgb, pose } = f
    return this.tracker.frame({
      type: 'frame',
      time,
      xyz,
      ...(brightness ? { brightness } : {}),
      ...(rgb ? { rgb } : {}),
      markers,
      ...(pose ? { at: pose } : {}),
    })
  }

  private heard(m: Told): void {
    if (m.type === 'refused') {
      this.view.problem = toProblem(new OakError('bad-frame', m.detail, { remedy: m.remedy }))
      return this.tell()
    }
    if (m.type === 'record') {
      if (this.ended) return
      this.kept.add(m.record)
      return
    }
    if (m.type === 'next') {
      const { views, poor, never, turns, known } = m
      const next = { views: views.map((v, k) => ({ ...v, turn: this.table ? turns[k] : null })), poor, never }
      this.table?.heard({ ...next, known })
      if (this.view.phase === 'held') this.view.next = next
      return this.tell()
    }
    if (m.type === 'floor') {
      const { found, problem } = m
      Object.assign(this.view.floor, { found, problem: problem && toProblem(receiveError(problem)) })
      return this.tell()
    }
    if (m.grown) this.model.grow(m.grown)
    this.view.surface = { version: this.model.version, cubes: this.model.count }
    if (m.type === 'grown') return this.tell()
    if (m.anew) {
      this.kept.line.began()
      this.light.beginAnew()
    }
    this.pose = m.state === 'steady' || m.state === 'weak' ? m.pose : undefined
    this.kept.line.told(m.fates)
    tracked(this.view, m)
    const came = this.came.get(m.time)
    if (came) this.view.delay = performance.now() - came.at
    if (m.state === 'steady') this.hand?.remember(came?.hand)
    for (const t of this.came.keys()) if (t <= m.time) this.came.delete(t)
    if (m.contradicts >= HOLDS_AFTER && this.view.phase === 'recording') {
      this.view.problem = toProblem(
        new OakError('moved', 'What is seen does not lie on what was recorded before: the part or its markers have moved.', {
          remedy: 'Nothing of it entered. Put it back and go on, or end here and record the rest in another setup.',
        }),
      )
      void this.hold()
    }
    this.tell()
  }

  /** The thread ended: what was recorded is kept, and what is tracked begins with the next process or is had at the end. */
  private async broke(e: unknown): Promise<void> {
    this.view.problem = toProblem(trackerEnded(e))
    await this.hold()
  }

  /** Frames wait for the database: that is said, and before they fill the memory it is held. */
  private waits(w: Waits | null): void {
    if (w && w.seconds < SAYS_AFTER) return
    if (w || this.view.problem?.code === 'not-stored') this.view.problem = w && toProblem(notStored(w))
    // what cannot be noted either is noted when it can
    if (w && w.seconds > WAITS && this.view.phase === 'recording') void this.hold().catch(() => undefined)
    this.tell()
  }
  private async stored(): Promise<void> {
    await this.tracker.allMade()
    await this.kept.flush()
  }
  override async settle(): Promise<void> {
    await this.stored()
    await this.tracker.stop()
  }

  private async wholeLog(): Promise<void> {
    await this.tracker.allMade()
    await this.kept.whole()
  }

  private tell(): void {
    this.view.sequence++
    Object.assign(this.view, this.kept.view())
    this.view.path = this.hand?.at ?? null
    this.view.table = this.table?.view() ?? null
    this.view.light = this.light.view()
    this.wake()
  }
  protected override changed(): void {
    this.tell()
    super.changed()
  }
  private note(): Promise<void> {
    const { phase, without } = this.view
    return this.save({
      without,
      table: this.table?.progress,
      chosen: chosenOf(this.o),
      autoExposure: this.light.auto,
      phase: phase === 'waiting' ? 'recording' : phase === 'done' || phase === 'failed' ? 'held' : phase,
    })
  }

  /** The state, as soon as it is newer than `after`, or after five seconds. */
  async live(after: number): Promise<RunView> {
    await this.news(() => this.view.sequence > after)
    return this.view
  }

  /** Begins to record, or goes on. */
  async go(): Promise<void> {
    if (await this.recording()) this.table?.go()
  }
  /** Shots at these angles, once. */
  async shots(angles: number[]): Promise<void> {
    const table = this.turntable()
    if (await this.recording()) table.go(angles)
  }
  /** Shots where something is missing. */
  async again(until: 'once' | 'gained'): Promise<void> {
    const table = this.turntable()
    if (await this.recording()) table.again(until)
  }
  /** False when it does already, or cannot now. */
  private async recording(): Promise<boolean> {
    // it is looked for what is missing before it turns
    if (this.table) await this.tracker.replays()
    if (this.view.phase !== 'ready' && this.view.phase !== 'held') return false
    if (this.tracker.ended) throw trackerEnded()
    this.kept.taken()
    this.view.phase = 'recording'
    this.view.problem = null
    this.view.contradicts = 0
    this.view.next = null
    this.changed()
    await this.note()
    if (this.keeper.of(this.scanner.id).link) await this.begin()
    else this.lost()
    return true
  }
  private forTable(frames: number): TableHost {
    return {
      frames,
      order: (m) => this.keeper.link(this.scanner.id).order(m),
      // what is noted as taken is there
      taken: () => this.stored().then(() => this.note()),
      look: () => this.look(),
      linked: () => this.keeper.of(this.scanner.id).link !== undefined,
      through: async (problem) => {
        if (problem && !this.ended) this.view.problem = toProblem(problem)
        // nobody waits for it: another process may lead the session by now
        await this.hold().catch((e: unknown) => (this.view.problem = toProblem(e)))
      },
    }
  }
  private turntable(): Turntable {
    if (!this.table) throw new OakError('no-turntable', `${this.scanner.name} has no turntable.`, { remedy: 'Lead it by hand.' })
    return this.table
  }

  async hold(): Promise<void> {
    if (this.view.phase !== 'recording' && this.view.phase !== 'waiting') return
    // the shot that is being taken still counts
    await this.table?.hold()
    this.view.phase = 'held'
    this.hand?.stop()
    this.changed()
    await Promise.all([this.quiet(), this.note(), this.stored()])
    this.look()
    // the last of them came while it was held
    this.tell()
  }

  /** What lies in these spans counts for nothing; what does not any more, counts again. Nothing is deleted. */
  async leaveOut(asked: Spans): Promise<void> {
    if (this.view.phase !== 'held') throw new OakError('not-held', 'It is cut while it is held.', { remedy: 'Hold it first.' })
    await this.wholeLog()
    this.view.without = this.kept.line.within(asked)
    await this.note()
    // the thread knows which of them it has
    for await (const m of this.kept.cut(this.view.without)) this.tracker.post({ type: 'cut', ...m })
    this.look()
    this.tell()
  }
  /** Places every frame once more, with another spacing, or with points within other limits only. */
  async placeAnew(chosen: PlaceAnew): Promise<void> {
    const held = () => {
      if (this.view.phase !== 'held' && this.view.phase !== 'ready')
        throw new OakError('not-held', 'This is changed while it is held.', { remedy: 'Hold it first.' })
    }
    held()
    await this.wholeLog()
    held()
    this.o = { ...this.o, ...chosen }
    const begun = this.tracking()
    this.model.beginAnew()
    if (!inMap(this.o)) this.light.beginAnew()
    placedAnew(this.view, this.o, this.model)
    floorChosen(this.view, this.o)
    this.tracker.replay(this.kept)
    this.tell()
    this.look()
    await Promise.all([this.note(), begun])
  }
  /** What lies beneath is not shown from now on, and is no part of the pass; frames are held by it all the same. */
  async onFloor(asked: FloorRequest): Promise<void> {
    if (this.ending()) throw new OakError('not-held', 'The recording has ended.', { remedy: 'Change the floor of the pass it became.' })
    checkFloor(this.o, asked)
    this.o = { ...this.o, ...asked }
    floorChosen(this.view, this.o)
    this.tracker.post({ type: 'floor', floor: floorIn(this.o) })
    if (this.view.phase === 'held') this.look()
    await this.note()
    this.tell()
  }
  async lit(light: LightRequest): Promise<void> {
    await this.light.set(light)
    await this.note()
    this.tell()
  }
  override button(): void {
    if (this.view.phase === 'recording') void this.hold().catch((e: unknown) => this.failed(e))
    else if (this.view.phase === 'ready' || this.view.phase === 'held') void this.go().catch((e: unknown) => this.failed(e))
  }
  private failed(e: unknown): void {
    this.view.problem = toProblem(e)
    this.tell()
  }
  /** While it is held there is time to find from where it should be seen next. */
  private look(): void {
    this.view.next = null
    this.tracker.look(this.table?.stands())
  }

  private standIn(): Hand {
    if (!this.hand) throw new OakError('no-hand', 'A real scanner is moved by hand.', { remedy: 'Move it.' })
    return this.hand
  }
  move(m: HandMove): Promise<void> {
    return this.standIn().move(m)
  }
  path(): void {
    const pace = inStep(() => this.lastTime)
    this.standIn().lead(
      // it stops where it is told that it is lost
      () => {
        const { phase, tracking } = this.view
        const share = pace()
        return phase !== 'recording' || tracking === 'lost' || tracking === 'finding' ? 0 : share
      },
      (e) => (this.view.problem = toProblem(e)),
    )
  }
  back(): void {
    this.standIn().back(
      () => this.view.phase === 'recording',
      (e) => (this.view.problem = toProblem(e)),
    )
  }

  private ending(): boolean {
    return this.ended || this.view.phase === 'solving'
  }
  /** The recording becomes a file of the job, and the pass a step of its ledger. */
  async end(): Promise<void> {
    if (this.ending()) return
    this.hand?.stop()
    await this.table?.hold()
    if (this.ending()) return
    this.view.phase = 'solving'
    this.changed()
    await this.quiet()
    try {
      await Promise.all([this.note(), this.wholeLog()])
      if (!this.view.frames) throw new OakError('nothing-recorded', 'Nothing was recorded.', { remedy: 'Record, or give it up.' })
      this.view.step = await storePass(this.db, this.queue, this.record, this.scanner, this.o, this.view.without, await standing(this.scanner.id, this.keeper))
      this.view.phase = 'done'
      await this.close('done')
      // the recording is a file of the job by now
      await this.db.pool.query('delete from session_chunk where session_id = $1', [this.record.id])
      await this.tracker.stop()
    } catch (e) {
      this.view.phase = 'held'
      this.view.problem = toProblem(e)
      await this.note().catch(() => undefined)
    }
    this.changed()
  }

  async cancel(): Promise<void> {
    if (this.ended) return
    this.hand?.stop()
    await this.table?.hold()
    await this.close('cancelled')
    await this.quiet()
    await this.tracker.stop()
    this.view.phase = 'failed'
    this.view.problem = toProblem(new OakError('cancelled', 'The recording was given up.', { remedy: 'Nothing has changed.' }))
    this.changed()
  }

  lost(): void {
    this.tracker.letGo()
    if (this.ended || this.view.phase !== 'recording') return
    // a hand that is led stands still meanwhile, and goes on from there
    this.view.phase = 'waiting'
    this.changed()
  }
  found(): void {
    if (this.ended) return
    const goesOn = this.view.phase === 'waiting'
    if (goesOn) this.view.phase = 'recording'
    this.changed()
    void this.begin()
      .then(() => this.tracker.replays())
      .then(() => goesOn && this.table?.go())
      .catch((e: unknown) => (this.view.problem = toProblem(e)))
  }
}
