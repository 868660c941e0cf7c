import type { CalibrationRun as RunView, ImageFrame, LinkFrame } from '@oak-gauge/contract'
import { identity, invertRigid, multiply, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { StereoObservation } from '@oak-gauge/core/calibrate/calibration.ts'
import { cover, emptyCoverage } from '@oak-gauge/core/calibrate/coverage.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'
import { judgeCalibration } from '@oak-gauge/core/calibrate/judge.ts'
import { orThrow, readPlates, solveCalibration } from '@oak-gauge/core/calibrate/kernels.ts'
import type { Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { platePose } from '@oak-gauge/core/calibrate/platepose.ts'
import type { PlateReading } from '@oak-gauge/core/calibrate/readplate.ts'
import { matchPose, movedPlate, placed, targetPoses, type Movement, type Target } from '@oak-gauge/core/calibrate/targets.ts'
import { bodyToLeft } from '@oak-gauge/core/scanner/spec.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { CalibrationRow, NoteRow, type ScannerRow, type SessionRow } from '../db/scannermodels.ts'
import { toProblem } from '../problem.ts'
import { openSession, patiently, Session } from '../sessions/session.ts'
import type { ScannerKeeper } from './keeper.ts'
import { liveView, type LiveView } from './liveview.ts'
import { believedStereo } from './use.ts'

/** angles of the turntable at which a plate on it is seen by both cameras, degrees */
const TURNS = Array.from({ length: 16 }, (_, k) => -44 + 6 * k)
/** px by which dots may move from one image to the next to count as still */
const STILL = 0.6

export interface CalibrationRunOptions {
  way: RunView['way']
  plate: Plate
  /** the plate that lies before a stand-in */
  onBench: Plate
  cold: boolean
  targets?: number | undefined
}

/** What a calibration needs to know to go on after a restart; the poses are in the calibration's own row. */
interface Lasting extends CalibrationRunOptions {
  calibration: string
  /** what the scanner is taken for until it is calibrated anew */
  believed: Stereo
}
type Progress = Pick<RunView, 'target' | 'skipped' | 'phase' | 'problem'>

/**
 * One calibration from the first image to the result. By hand: images flow, each pose is taken by itself when it matches its
 * target and nothing moves. By script or turntable: one target after the other. From files: pairs are handed in. Every pose is in the
 * database as soon as it is taken; a lost link only pauses the run, and so does a restart.
 */
export class CalibrationRun extends Session<RunView, Progress> {
  readonly kind = 'calibration'
  private readonly options: CalibrationRunOptions
  private readonly row: CalibrationRow
  private readonly believed: Stereo
  private readonly targets: Target[]
  private observations: StereoObservation[] = []
  private half: { sequence: number; left?: ImageFrame; right?: ImageFrame } | undefined
  private last: Map<number, [number, number]> | undefined
  private room: number
  /** plate to body before a stand-in that has not been moved */
  private bench: Mat4
  private hand: Mat4 = identity()
  private latest: LiveView | undefined
  private sequence = 0

  private constructor(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, row: CalibrationRow, options: Lasting) {
    const { believed } = options
    const all = targetPoses(scanner.spec, believed, options.plate)
    const targets =
      options.way === 'turntable' ? TURNS.map((t) => ({ name: `table at ${t} degrees`, pose: [] })) : options.targets ? all.slice(0, options.targets) : all
    super(keeper, scanner, record, {
      kind: 'calibration',
      way: options.way,
      plate: options.plate.name,
      phase: 'looking',
      target: 0,
      targets: targets.length,
      name: targets[0].name,
      taken: 0,
      skipped: 0,
      trouble: null,
      advice: null,
      match: null,
      still: false,
      coverage: { left: emptyCoverage(), right: emptyCoverage() },
      cold: options.cold,
      problem: null,
      calibration: null,
    })
    this.targets = targets
    this.options = options
    this.row = row
    this.believed = believed
    this.room = row.celsius
    this.bench = multiply(invertRigid(bodyToLeft(believed)), placed(believed, options.onBench, 15, -10, scanner.spec.range.ideal * 1.06, 10, -12, 6))
  }

  /** Puts the plate before a stand-in, and begins. Throws when the scanner refuses. */
  static async start(keeper: ScannerKeeper, scanner: ScannerRow, options: CalibrationRunOptions): Promise<CalibrationRun> {
    const link = options.way === 'files' ? undefined : keeper.link(scanner.id)
    const brought = link?.hello.calibration.stereo
    const believed = brought?.left ? await believedStereo(scanner, brought) : scanner.spec.design
    const row = rowOf(scanner, options, keeper.of(scanner.id).state?.room)
    const lasting: Lasting = { ...options, believed, calibration: row.id }
    const record = await openSession('calibration', scanner, lasting)
    await row.save()
    if (options.cold) await NoteRow.create({ scannerId: scanner.id, text: 'Calibrating was begun although the scanner was not warm.' })
    return new CalibrationRun(keeper, scanner, record, row, lasting).launch()
  }

  /** As another process left it. */
  static async resume(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, lasting: Lasting, progress: Partial<Progress>): Promise<CalibrationRun> {
    const row =
      (await CalibrationRow.findByPk(lasting.calibration)) ??
      // ended between its record and its row
      (await rowOf(scanner, lasting, undefined, lasting.calibration).save())
    const run = new CalibrationRun(keeper, scanner, record, row, lasting)
    const { view } = run
    const { width, height } = scanner.spec.design.left
    run.observations = row.observations
    for (const o of row.observations) {
      cover(view.coverage.left, Float64Array.from(o.left.pixels), width, height)
      cover(view.coverage.right, Float64Array.from(o.right.pixels), width, height)
    }
    // a pose is stored before it is told that the next target is due: whoever was killed in between must not have it taken twice
    const taken = row.observations.length
    Object.assign(view, progress, { taken, target: taken + (progress.skipped ?? 0) })
    view.name = run.targets[view.target]?.name ?? 'enough'
    if (row.state === 'done') {
      // it had come to its end, and only its record did not hear of it
      await run.close('done')
      return run
    }
    if (view.phase === 'solving') {
      view.phase = 'looking'
      void run.solve()
    } else if (view.phase === 'looking' && lasting.way !== 'files') view.phase = 'waiting'
    return run
  }

  async begin(): Promise<void> {
    const { way, onBench } = this.options
    if (way === 'files') return
    const link = this.keeper.link(this.scanner.id)
    if (link.hello.standIn) {
      await link.order({ type: 'hand', pose: Array.from(this.hand) })
      await link.order({
        type: 'bench',
        things: [way === 'turntable' ? { kind: 'table-plate', plate: onBench } : { kind: 'plate', plate: onBench, pose: Array.from(this.bench) }],
      })
    }
    if (way === 'hand' && this.view.target >= this.targets.length) void this.solve()
    else if (way === 'hand') await link.order({ type: 'mode', mode: 'images' })
    else void this.byItself()
  }

  /** Script and turntable: go to each target, take an image, next. Paused by a lost link, it goes on where it was. */
  private async byItself(): Promise<void> {
    const random = seeded(this.scanner.spec.design.left.fx + this.observations.length)
    while (!this.ended && this.view.phase === 'looking' && this.view.target < this.targets.length) {
      const at = this.view.target
      try {
        const link = this.keeper.link(this.scanner.id)
        if (this.options.way === 'turntable') await link.order({ type: 'turn', degrees: TURNS[at] })
        else {
          const body = multiply(invertRigid(bodyToLeft(this.believed)), this.targets[at].pose)
          // no hand comes back to the same place twice
          const shake = () => (random.next() - 0.5) * 4
          this.setHand(
            movedPlate(this.options.onBench, body, { away: shake(), right: shake(), down: shake(), topAway: shake(), rightAway: shake(), turn: shake() }),
          )
          await link.order({ type: 'hand', pose: Array.from(this.hand) })
        }
        await link.order({ type: 'image' })
        await this.settled
        if (this.view.target === at) await this.next(true)
      } catch (e) {
        if (this.ended) return
        const problem = toProblem(e)
        // the link is gone: found() starts this anew
        if (this.keeper.of(this.scanner.id).status !== 'connected') return
        this.view.problem = problem
        // a database that is away: the next answer of its own tells
        await this.next(true).catch(() => undefined)
      }
    }
    if (!this.ended && this.view.phase === 'looking') await this.solve()
  }

  /** what the frames under way lead to */
  private settled: Promise<void> = Promise.resolve()

  frame(f: LinkFrame): Promise<void> | void {
    if (f.kind !== 'image' || this.ended || this.view.phase === 'solving' || this.view.phase === 'done') return
    if (this.half?.sequence !== f.sequence) this.half = { sequence: f.sequence }
    this.half[f.side] = f
    const { left, right } = this.half
    if (!left || !right) return
    this.half = undefined
    // one after the other: while one is taken the next would be held against the same target
    this.settled = this.settled
      .then(() => this.pair(left, right))
      .catch((e: unknown) => {
        this.view.problem = toProblem(e)
      })
    return this.settled
  }

  /** A pair of images from files. */
  async given(left: GreyImage, right: GreyImage): Promise<void> {
    const { width, height } = this.scanner.spec.design.left
    for (const i of [left, right])
      if (i.width !== width || i.height !== height)
        throw new OakError('wrong-size', `The image has ${i.width} x ${i.height} pixels; the cameras of ${this.scanner.name} have ${width} x ${height}.`, {
          remedy: 'Give the images as they came from the cameras, neither cut nor scaled.',
        })
    await this.pair(left, right)
  }

  private async pair(left: GreyImage, right: GreyImage): Promise<void> {
    const { plate } = this.options
    const read = await this.keeper.pool.map(
      readPlates,
      { images: [left, right].map(({ width, height, data }) => ({ width, height, data })), plate },
      2,
      1,
      quietContext,
    )
    const [l, r] = read.flat()
    if (this.ended) return
    const room = this.keeper.of(this.scanner.id).state?.room
    if (room !== undefined) this.room = room
    this.view.trouble = l.trouble ?? r.trouble
    this.view.advice = l.advice ?? r.advice
    const found = platePose(this.believed, plate, l, r)
    const target = this.targets[this.view.target] as Target | undefined
    const guided = this.options.way === 'hand' || this.options.way === 'script'
    this.view.match = found && target && guided ? matchPose(this.believed, plate, found.pose, target.pose) : null
    this.view.still = this.isStill(l)
    const good = !l.trouble && !r.trouble && l.ids.length >= 12 && r.ids.length >= 12
    const take = good && (this.options.way === 'hand' ? this.view.still && this.view.match?.matched === true : true)
    if (take) await this.take(l, r, left)
    this.latest = liveView(++this.sequence, left, right, l, r, plate, this.believed, guided && target ? target.pose : null, { ...this.view })
    this.wake()
    if (take && this.options.way === 'hand' && this.view.target >= this.targets.length) await this.solve()
  }

  private isStill(r: PlateReading): boolean {
    const now = new Map<number, [number, number]>()
    r.ids.forEach((id, i) => now.set(id, [r.pixels[2 * i], r.pixels[2 * i + 1]]))
    let [n, s] = [0, 0]
    for (const [id, [u, v]] of now) {
      const was = this.last?.get(id)
      if (!was) continue
      n++
      s += Math.hypot(u - was[0], v - was[1])
    }
    this.last = now
    return n >= 8 && s / n < STILL
  }

  private async take(l: PlateReading, r: PlateReading, image: GreyImage): Promise<void> {
    const plain = (p: PlateReading) => ({ ids: Array.from(p.ids), pixels: Array.from(p.pixels, (v) => Math.round(v * 1e5) / 1e5) })
    this.observations.push({ left: plain(l), right: plain(r), celsius: this.room })
    cover(this.view.coverage.left, l.pixels, image.width, image.height)
    cover(this.view.coverage.right, r.pixels, image.width, image.height)
    this.view.taken++
    this.view.problem = null
    // a list of its own: of one that is the same and has only grown Sequelize sees no change
    await patiently(() => this.row.update({ observations: [...this.observations], celsius: this.room }))
    await this.next(false)
  }

  private async next(skipped: boolean): Promise<void> {
    if (skipped) this.view.skipped++
    this.view.target++
    this.last = undefined
    this.view.match = null
    this.view.still = false
    this.view.name = this.targets[this.view.target]?.name ?? 'enough'
    this.changed()
    await this.note()
  }

  private note(): Promise<void> {
    const { target, skipped, phase, problem } = this.view
    return this.save({ target, skipped, phase: phase === 'waiting' ? 'looking' : phase, problem })
  }

  /** The pose that is due cannot be reached: the next one. */
  async skip(): Promise<void> {
    if (this.view.phase !== 'looking') return
    await this.next(true)
    if (this.view.target >= this.targets.length) await this.solve()
  }

  /** Moves the plate before a stand-in the way a hand would. */
  async move(m: Movement): Promise<void> {
    const link = this.keeper.link(this.scanner.id)
    if (!link.hello.standIn) throw new OakError('no-hand', 'A real scanner is moved by hand.', { remedy: 'Move it.' })
    this.setHand(movedPlate(this.options.onBench, multiply(invertRigid(this.hand), this.bench), m))
    await link.order({ type: 'hand', pose: Array.from(this.hand) })
  }

  /** The hand's place such that the plate, which stays where it is, is seen there (plate to body). */
  private setHand(body: ArrayLike<number>): void {
    this.hand = multiply(this.bench, invertRigid(body))
  }

  /** Computes with what has been taken. */
  async solve(): Promise<void> {
    if (this.ended || this.view.phase === 'solving') return
    this.view.phase = 'solving'
    this.view.problem = null
    this.changed()
    await this.quiet()
    try {
      await this.note()
      const { width, height } = this.scanner.spec.design.left
      const { plate } = this.options
      const result = orThrow(await this.keeper.pool.away(solveCalibration, { plate, observations: this.observations, width, height }))
      // given up meanwhile
      if (this.ended) return
      const previous = this.row.previousId ? await CalibrationRow.findByPk(this.row.previousId, { attributes: ['result'] }) : null
      const judgement = judgeCalibration(result, this.scanner.spec, plate, new Date(), previous?.result ?? null)
      await this.row.update({ result, judgement, state: 'done', at: new Date() })
      this.view.calibration = this.row.id
      this.view.phase = 'done'
      await this.close('done')
      this.changed()
    } catch (e) {
      // what has been taken stays: more poses may be all that is missing
      this.view.phase = 'failed'
      this.view.problem = toProblem(e)
      this.changed()
      await this.note().catch(() => undefined)
    }
  }

  /** After a failed attempt: the targets once more, on top of what has been taken. */
  async goOn(): Promise<void> {
    if (this.view.phase !== 'failed') return
    this.view.phase = 'looking'
    this.view.problem = null
    this.view.target = 0
    this.view.name = this.targets[0].name
    this.changed()
    await this.note()
    await this.begin()
  }

  async cancel(): Promise<void> {
    if (this.ended) return
    await this.quiet()
    await this.close('cancelled')
    this.view.phase = 'failed'
    this.view.problem = { code: 'cancelled', detail: 'The calibration was given up.', where: '', remedy: 'The one in use stays in use.' }
    this.changed()
  }

  protected override async close(state: 'done' | 'cancelled' | 'failed', problem: RunView['problem'] = null): Promise<void> {
    if (state !== 'done') await this.row.update({ state })
    await super.close(state, problem)
  }

  lost(): void {
    if (this.ended || this.view.phase !== 'looking') return
    this.view.phase = 'waiting'
  }

  found(): void {
    if (this.ended || this.view.phase !== 'waiting') return
    this.view.phase = 'looking'
    this.begin().catch((e: unknown) => (this.view.problem = toProblem(e)))
  }

  /** The newest images and what was found in them; waits for newer ones than `after`. */
  async live(after: number): Promise<LiveView | undefined> {
    const newer = () => this.latest !== undefined && this.latest.sequence > after
    await this.news(newer)
    return newer() ? this.latest : undefined
  }
}

/** A calibration that has taken nothing yet. room: °C, if somebody knows it. */
function rowOf(scanner: ScannerRow, { way, plate, cold }: CalibrationRunOptions, room: number | undefined, id?: string): CalibrationRow {
  return CalibrationRow.build({
    ...(id ? { id } : {}),
    scannerId: scanner.id,
    previousId: scanner.calibrationId,
    state: 'open',
    way,
    plate,
    celsius: room ?? plate.certificate.temperature,
    cold,
    observations: [],
  })
}
