import type { LinkFrame, PointsFrame, VerificationRun as RunView } from '@oak-gauge/contract'
import { identity, transformArray } from '@oak-gauge/core/base/mat4.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { verify, type BallBar } from '@oak-gauge/core/calibrate/ballbar.ts'
import { barPositions, type BarPosition } from '@oak-gauge/core/calibrate/barpositions.ts'
import { measureBar, orThrow } from '@oak-gauge/core/calibrate/kernels.ts'
import { NoteRow, VerificationRow, type ScannerRow, type SessionRow } from '../db/scannermodels.ts'
import { toProblem } from '../problem.ts'
import { openSession, Session } from '../sessions/session.ts'
import type { ScannerKeeper } from './keeper.ts'

interface Lasting {
  bar: BallBar
  cold: boolean
}
type Progress = Pick<RunView, 'readings'>

/**
 * A ball bar measured in position after position, one shot each, standing still. A position that failed is taken again; the verdict is
 * made when all are there.
 */
export class VerificationRun extends Session<RunView, Progress> {
  readonly kind = 'verification'
  private readonly bar: BallBar
  private readonly cold: boolean
  private readonly positions: BarPosition[]
  private frames: PointsFrame[] = []
  /** all positions that are left are to be measured */
  private all = false

  private constructor(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, { bar, cold }: Lasting) {
    const positions = barPositions(scanner.spec.range)
    super(keeper, scanner, record, {
      kind: 'verification',
      bar: bar.name,
      phase: 'ready',
      positions: positions.length,
      name: positions[0].name,
      readings: [],
      problem: null,
      verification: null,
    })
    this.bar = bar
    this.cold = cold
    this.positions = positions
  }

  static async start(keeper: ScannerKeeper, scanner: ScannerRow, options: Lasting): Promise<VerificationRun> {
    return new VerificationRun(keeper, scanner, await openSession('verification', scanner, options), options).launch()
  }

  /** As another process left it: the positions that were measured are, the one that was due is due. */
  static async resume(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, lasting: Lasting, progress: Partial<Progress>): Promise<VerificationRun> {
    const run = new VerificationRun(keeper, scanner, record, lasting)
    run.view.readings = progress.readings ?? []
    run.view.phase = 'waiting'
    if (run.view.readings.length === run.positions.length) await run.finish()
    return run
  }

  async begin(): Promise<void> {
    // nothing is sent before a position is taken
  }

  frame(f: LinkFrame): void {
    if (f.kind === 'points') this.frames.push(f)
  }

  override button(): void {
    this.take().catch((e: unknown) => (this.view.problem = toProblem(e)))
  }
  /** Measures the position that is due. */
  async take(): Promise<void> {
    if (this.ended || this.view.phase === 'measuring') return
    const link = this.keeper.link(this.scanner.id)
    this.view.phase = 'measuring'
    this.view.problem = null
    this.changed()
    try {
      const { name, pose } = this.positions[this.view.readings.length]
      this.view.name = name
      if (link.hello.standIn) await link.order({ type: 'hand', pose: Array.from(identity()) })
      if (link.hello.standIn) await link.order({ type: 'bench', things: [{ kind: 'bar', bar: this.bar, pose: Array.from(pose) }] })
      this.frames = []
      await link.order({ type: 'shot', frames: this.scanner.spec.shotFrames })
      const points = joined(this.frames)
      this.frames = []
      const room = this.keeper.of(this.scanner.id).state?.room ?? this.bar.certificate.temperature
      const reading = orThrow(await this.keeper.pool.away(measureBar, { points, bar: this.bar, celsius: room }))
      if (this.ended) return
      this.view.readings.push(reading)
      // the link may have gone while it was computed
      this.view.phase = this.keeper.of(this.scanner.id).link ? 'ready' : 'waiting'
      await this.save({ readings: this.view.readings })
      if (this.view.readings.length === this.positions.length) await this.finish()
    } catch (e) {
      this.view.phase = this.keeper.of(this.scanner.id).link ? 'ready' : 'waiting'
      this.view.problem = toProblem(e)
    }
    this.changed()
  }

  /** Positions that are left, one after the other; ends at the first that fails. Goes on by itself when a link that broke off is back. */
  async takeAll(): Promise<void> {
    this.all = true
    while (!this.ended && this.view.phase === 'ready' && !this.view.problem) await this.take()
    if (this.view.phase !== 'waiting') this.all = false
  }

  private async finish(): Promise<void> {
    const room = this.keeper.of(this.scanner.id).state?.room ?? this.bar.certificate.temperature
    const { limits } = this.scanner.spec
    const { form, size, distance } = limits
    // of the session's own number: made once, however often its end is tried
    const [row] = await VerificationRow.upsert({
      id: this.record.id,
      scannerId: this.scanner.id,
      calibrationId: this.scanner.calibrationId ?? null,
      bar: this.bar,
      celsius: room,
      cold: this.cold,
      limits: { form, size, distance },
      readings: this.view.readings,
      result: verify(this.view.readings, this.bar, { form, size, distance }),
    })
    if (this.cold) await NoteRow.create({ scannerId: this.scanner.id, text: 'Verified although the scanner was not warm.' })
    await this.scanner.update({ usedAt: new Date() })
    this.view.verification = row.id
    this.view.phase = 'done'
    await this.close('done')
  }

  async cancel(): Promise<void> {
    if (this.ended) return
    await this.close('cancelled')
    this.view.phase = 'failed'
    this.view.problem = toProblem(new OakError('cancelled', 'The verification was given up.', { remedy: 'Nothing has changed.' }))
    this.changed()
  }

  lost(): void {
    if (!this.ended && this.view.phase === 'ready') this.view.phase = 'waiting'
  }
  found(): void {
    if (this.ended || this.view.phase !== 'waiting') return
    this.view.phase = 'ready'
    if (!this.all) return
    this.view.problem = null
    void this.takeAll()
  }
}

/** All points in one list; of scanners on an arm brought into the arm's coordinates. */
function joined(frames: PointsFrame[]): Float32Array {
  const out = new Float32Array(frames.reduce((s, f) => s + f.xyz.length, 0))
  let at = 0
  for (const f of frames) {
    if (f.pose) transformArray(f.pose, f.xyz, out.subarray(at, at + f.xyz.length))
    else out.set(f.xyz, at)
    at += f.xyz.length
  }
  return out
}
