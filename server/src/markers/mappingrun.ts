import { Readable } from 'node:stream'
import { frameOf } from '@oak-gauge/core/formats/markers.ts'
import { identity, invertRigid, multiply, rotateVector, transformPoint, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { levelled } from '@oak-gauge/core/markers/levelled.ts'
import { asKnown, settleBy } from '@oak-gauge/core/markers/mapframes.ts'
import { worstUncertainty, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import type { SolvedMap } from '@oak-gauge/core/markers/map.ts'
import { mapInput, solveMapKernel } from '@oak-gauge/core/markers/solvemap.ts'
import { makeTracker, widestAngle, type Tracked, type Tracker } from '@oak-gauge/core/markers/tracker.ts'
import type { LinkFrame, MappedMarker, MappingRun as RunView } from '@oak-gauge/contract'
import { storeFile } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import type { ScannerRow } from '../db/scannermodels.ts'
import type { Queue } from '../ledger/change.ts'
import { enqueueFile } from '../ledger/enqueue.ts'
import { toProblem } from '../problem.ts'
import type { Run, ScannerKeeper } from '../scanners/keeper.ts'
import { emptyView, middleDistance } from './mappingview.ts'
import { movedBody, pathPose, type HandMove } from './path.ts'
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

/**
 * The markers of one setup, recorded by themselves: frames are tracked as they come, solved every second or so on another thread, and kept;
 * at the end the recording becomes a file of the job, and a step of its ledger makes the map from it. The step can be repeated with other settings.
 */
export class MappingRun implements Run {
  readonly kind = 'mapping'
  private readonly keeper: ScannerKeeper
  private readonly scanner: ScannerRow
  private readonly db: Database
  private readonly queue: Queue
  private readonly o: MappingOptions
  private readonly tracker: Tracker
  private readonly view: RunView
  private readonly frames: { time: number; markers: number[] }[] = []
  private last: Tracked | undefined
  private solved: SolvedMap | undefined
  /** map as tracked to map as shown: found once, so that the picture does not turn under one's eyes */
  private shown: Mat4 | undefined
  private solving = false
  private solvedAt = 0
  private hand: Mat4 = identity()
  private timer: NodeJS.Timeout | undefined
  private ended = false
  private waiting: (() => void)[] = []

  private constructor(keeper: ScannerKeeper, scanner: ScannerRow, db: Database, queue: Queue, o: MappingOptions) {
    this.keeper = keeper
    this.scanner = scanner
    this.db = db
    this.queue = queue
    this.o = o
    const known = o.known?.markers
    this.tracker = makeTracker({
      sight: stereoSight(o.stereo),
      ...(known ? { known: asKnown(known) } : {}),
    })
    if (known) this.shown = identity()
    this.view = emptyView(o, scanner.spec)
  }

  static async start(keeper: ScannerKeeper, scanner: ScannerRow, db: Database, queue: Queue, o: MappingOptions): Promise<MappingRun> {
    const run = new MappingRun(keeper, scanner, db, queue, o)
    keeper.of(scanner.id).run = run
    try {
      await run.begin()
    } catch (e) {
      // a link that broke just now comes back by itself, and the run begins then
      if (keeper.of(scanner.id).link) {
        run.ended = true
        throw e
      }
      run.lost()
    }
    return run
  }

  phase(): string {
    return this.view.phase
  }
  over(): boolean {
    return this.ended
  }
  state(): RunView {
    return this.view
  }

  private async begin(): Promise<void> {
    const link = this.keeper.link(this.scanner.id)
    if (this.o.stage) {
      if (!this.scanner.spec.turntable && this.view.frames === 0) this.hand = pathPose(this.o.stage.box, this.scanner.spec.range.ideal, 0)
      await link.order({ type: 'hand', pose: Array.from(this.hand) })
      await link.order({ type: 'bench', things: benchOf(this.o.stage) })
    }
    await link.order({ type: 'mode', mode: 'aim' })
  }

  frame(f: LinkFrame): void {
    if (f.kind !== 'points' || this.ended || this.view.phase !== 'recording') return
    const markers = Array.from(f.seenMarkers ?? [])
    this.frames.push({ time: f.time, markers })
    this.last = this.tracker.feed(frameOf(f.time, markers))
    const { state, fits, why } = this.last
    this.view.frames = this.frames.length
    this.view.lost = this.tracker.lost()
    this.view.tracking = state
    this.view.why = why ?? ''
    this.view.inView = markers.length / 4
    this.view.fits = fits
    this.view.distance = middleDistance(markers)
    if (this.frames.length >= MOST_FRAMES) this.hold()
    if (!this.solving && performance.now() - this.solvedAt > SOLVE_EVERY && this.tracker.kept().length > 12) void this.solve()
    this.tell()
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

  private markers(): MappedMarker[] {
    const pose = this.shown ?? identity()
    const index = new Map(this.solved?.numbers.map((n, i) => [n, i]) ?? [])
    const now = new Set(this.last?.pairs ?? [])
    return this.tracker.known.flatMap((k, n) => {
      if (k.same !== null) return []
      const i = index.get(n)
      const s = this.solved
      const id = i === undefined || !s ? (this.o.known?.markers.ids[n] ?? '') : s.markers.ids[i]
      const u = i === undefined || !s ? null : 2 * worstUncertainty(s.markers.covariance, i)
      const angle = widestAngle(k.seenFrom)
      const own: MappedMarker = {
        id,
        at: transformPoint(pose, k.x, k.y, k.z),
        diameter: k.diameter,
        u,
        angle,
        sightings: k.sightings,
        now: now.has(n),
        state: this.view.missing.includes(id) ? 'gone' : u === null ? 'new' : u <= this.o.target ? 'enough' : angle < 25 ? 'directions' : 'frames',
        moved: this.view.moved.find((m) => m.id === id)?.distance ?? null,
      }
      return [own]
    })
  }

  private tell(): void {
    this.view.sequence++
    this.view.markers = this.markers()
    this.view.enough = this.view.markers.filter((m) => m.state === 'enough').length
    if (this.last && this.shown && this.last.state !== 'lost' && this.last.state !== 'few') {
      const back = multiply(this.shown, invertRigid(this.last.pose))
      this.view.scanner = { at: [back[3], back[7], back[11]], looks: rotateVector(back, 0, 0, 1) }
    }
    for (const w of this.waiting.splice(0)) w()
  }

  /** The state, as soon as it is newer than `after`, or after five seconds. */
  live(after: number): Promise<RunView> {
    if (this.view.sequence > after || this.ended) return Promise.resolve(this.view)
    return new Promise((resolve) => {
      const done = () => resolve(this.view)
      this.waiting.push(done)
      setTimeout(done, 5000).unref()
    })
  }

  hold(): void {
    if (this.view.phase !== 'recording') return
    this.view.phase = 'held'
    this.stopPath()
    this.changed()
  }
  goOn(): void {
    if (this.view.phase !== 'held') return
    this.view.phase = 'recording'
    this.changed()
  }

  private changed(): void {
    this.tell()
    this.keeper.changed(this.scanner.id)
  }

  private standIn(): Stage {
    if (!this.o.stage) throw new OakError('no-hand', 'A real scanner is moved by hand.', { remedy: 'Move it.' })
    return this.o.stage
  }

  /** The virtual hand. */
  async move(m: HandMove): Promise<void> {
    this.standIn()
    this.stopPath()
    await this.setHand(movedBody(this.hand, m))
  }

  private async setHand(pose: Mat4): Promise<void> {
    this.hand = pose
    await this.keeper.link(this.scanner.id).order({ type: 'hand', pose: Array.from(pose) })
  }

  /** Leads the hand, or the turntable, once round. */
  path(): void {
    const stage = this.standIn()
    if (this.timer) return
    const { turntable, range } = this.scanner.spec
    let at = 0
    let busy = false
    this.view.path = 0
    this.timer = setInterval(() => {
      if (busy || this.view.phase !== 'recording') return
      busy = true
      at += STEP / 1000 / PATH_SECONDS
      this.view.path = Math.min(1, at)
      const moving = turntable
        ? this.keeper.link(this.scanner.id).order({ type: 'turn', degrees: Math.round(3600 * at) / 10 - 180 })
        : this.setHand(pathPose(stage.box, range.ideal, at))
      moving
        .catch((e: unknown) => (this.view.problem = toProblem(e)))
        .finally(() => {
          busy = false
          if (at >= 1) this.stopPath()
        })
    }, STEP)
    this.changed()
  }

  private stopPath(): void {
    clearInterval(this.timer)
    this.timer = undefined
    this.view.path = null
  }

  /** Somebody knocks against a marker: it slides a little on its ground. Stand-ins only. */
  async nudge(id: string, distance: number): Promise<void> {
    const stage = this.standIn()
    const n = this.tracker.known.findIndex((_, k) => this.nameOf(k) === id)
    if (n < 0) throw new OakError('not-found', `There is no marker ${id} yet.`, { remedy: 'Choose one from the map.' })
    const best = onStage(stage, this.tracker.known, n)
    if (best < 0) throw new OakError('not-found', 'That marker cannot be reached now.', { remedy: 'Record a little longer, then try again.' })
    slide(stage, best, distance)
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
        frames: this.frames.map((f) => ({ time: Math.round(f.time), markers: f.markers.map((v) => Math.round(v * 1e5) / 1e5) })),
      }
      const name = `markers ${o.setupName}.json`
      const file = await storeFile(this.db.pool, name, Readable.from([Buffer.from(JSON.stringify(recording))]))
      const step = await enqueueFile(this.queue, o.job, 'map-markers', {
        id: file.id,
        name,
        setup: o.setup,
        params: { name: `Markers, ${o.setupName}`, target: o.target },
        inputs: {
          ...(o.known ? { [o.known.replaces ? 'known' : 'from']: [o.known.slot] } : {}),
          ...(o.plan ? { plan: [o.plan.slot] } : {}),
        },
        recordedWith: null,
      })
      await scanner.update({ usedAt: new Date() })
      this.view.step = step.id
      this.view.phase = 'done'
      this.ended = true
    } catch (e) {
      this.view.phase = 'held'
      this.view.problem = toProblem(e)
    }
    this.changed()
  }

  async cancel(): Promise<void> {
    if (this.ended) return
    this.stopPath()
    this.ended = true
    await this.quiet()
    this.view.phase = 'failed'
    this.view.problem = toProblem(new OakError('cancelled', 'The mapping was given up.', { remedy: 'Nothing has changed.' }))
    this.changed()
  }

  private async quiet(): Promise<void> {
    await this.keeper
      .of(this.scanner.id)
      .link?.order({ type: 'mode', mode: 'idle' })
      .catch(() => undefined)
  }

  lost(): void {
    if (this.ended || this.view.phase !== 'recording') return
    this.view.phase = 'waiting'
    this.stopPath()
    this.changed()
  }

  found(): void {
    if (this.ended || this.view.phase !== 'waiting') return
    this.view.phase = 'recording'
    this.begin().catch((e: unknown) => (this.view.problem = toProblem(e)))
    this.changed()
  }
}
