import { fromRotationVector, identity, invertRigid, multiply, rotationVector, translation, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { lineLength, PACE, wayOver } from '@oak-gauge/core/capture/wayover.ts'
import { timesRound, wayRound } from '@oak-gauge/core/capture/wayround.ts'
import type { ScannerRow } from '../db/scannermodels.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { movedBody, type HandMove } from './path.ts'
import type { Stage } from './stage.ts'

/** ms between two places of a hand that is led */
const STEP = 60
/** steps in which a hand that stood still comes to its pace */
const SETS_OFF = 20
/** seconds that it takes to lead it back, and how far beside the place a hand gets there: mm and degrees */
const BACK_SECONDS = 2
const BESIDE = { mm: 12, degrees: 3 }

/** steps that a hand goes on while no frame comes; share of the newest interval in what is taken for the pace of frames */
const UNSEEN = 3
const NEWEST = 0.2
/** ms: a longer interval was a hold or a loss */
const LONGEST = 1000
/**
 * The pace of a hand that goes one step a frame, and evenly in time, as hands do: on a slow computer, where frames are few and come unevenly, it is slow, and not
 * jerky. (One step whenever a frame came, however long that took, tore it away: where a frame lies is predicted by time.) newest: time of the newest frame, ms
 */
export function inStep(newest: () => number): () => number {
  let [seen, interval, unseen] = [newest(), STEP, 0]
  return () => {
    const now = newest()
    if (now !== seen) {
      if (Number.isFinite(seen)) interval += NEWEST * (Math.min(LONGEST, now - seen) - interval)
      ;[seen, unseen] = [now, 0]
    }
    const share = Math.min(1, STEP / Math.max(1, interval))
    if (unseen >= UNSEEN) return 0
    unseen += share
    return share
  }
}

/** The virtual hand that leads a stand-in, or turns its table. */
export class Hand {
  private readonly keeper: ScannerKeeper
  private readonly scanner: ScannerRow
  private readonly way: (t: number) => Mat4
  private readonly seconds: number
  private readonly moved: () => void
  private pose: Mat4 | undefined
  /** where what it sees was known last */
  private known: Mat4 | undefined
  private backs = 0
  private timer: NodeJS.Timeout | undefined
  /** of its path, 0 to 1; null while it is not led */
  at: number | null = null

  /** seconds: once round what is not tall; an arm goes over it line by line, and takes the time that takes. moved: called when it was led on, and at the end */
  constructor(keeper: ScannerKeeper, scanner: ScannerRow, stage: Stage, seconds: number, moved: () => void) {
    this.keeper = keeper
    this.scanner = scanner
    const { arm, range, design } = scanner.spec
    const over = arm ? wayOver(stage.box, range, lineLength(design.left, range.ideal)) : undefined
    this.way = over ? (t) => over.at(t) : (t) => wayRound(stage.box, range.ideal, t)
    this.seconds = over ? over.length / PACE : seconds * timesRound(stage.box)
    this.moved = moved
  }

  /** Takes the scanner where it was held last, at first where the path begins. */
  async take(): Promise<void> {
    await this.hold(this.pose ?? (this.scanner.spec.turntable ? identity() : this.way(0)))
  }

  async move(m: HandMove): Promise<void> {
    this.stop()
    await this.hold(movedBody(this.pose ?? identity(), m))
  }

  private async hold(pose: Mat4): Promise<void> {
    this.pose = pose
    await this.keeper.link(this.scanner.id).order({ type: 'hand', pose: Array.from(pose) })
  }

  /** Leads it, or the turntable, once round. pace: asked at each step, 1: as fast as ever, 0: it stands still */
  lead(pace: () => number, failed: (e: unknown) => void): void {
    if (this.timer) return
    const { turntable } = this.scanner.spec
    let [busy, gone] = [false, 0]
    this.at = 0
    this.timer = setInterval(() => {
      if (busy || this.at === null) return
      const share = pace()
      if (!(share > 0)) return
      busy = true
      gone++
      this.at = Math.min(1, this.at + (share * Math.min(1, gone / SETS_OFF) * STEP) / 1000 / this.seconds)
      const moving = turntable
        ? this.keeper.link(this.scanner.id).order({ type: 'turn', degrees: Math.round(3600 * this.at) / 10 - 180 })
        : this.hold(this.way(this.at))
      moving.catch(failed).finally(() => {
        busy = false
        if (this.at !== null && this.at >= 1) this.stop()
        this.moved()
      })
    }, STEP)
    this.moved()
  }

  where(): Mat4 | undefined {
    return this.pose
  }
  /** What it saw from there was known. */
  remember(pose: Mat4 | undefined): void {
    if (pose) this.known = pose
  }
  /** Leads it back to where that was so last, as nearly as a hand finds it, while `goes`. */
  back(goes: () => boolean, failed: (e: unknown) => void): void {
    const to = this.known
    if (!to || !this.pose) return
    this.stop()
    const a = 2.4 * ++this.backs
    const { ideal } = this.scanner.spec.range
    const r = (BESIDE.degrees * Math.PI) / 180
    // about what it looks at: a hand errs in where it points, and how it leans
    const beside = multiply(translation(BESIDE.mm * Math.cos(a), BESIDE.mm * Math.sin(a), ideal), fromRotationVector(r * Math.sin(a), r * Math.cos(a), 0))
    const from = this.pose
    const way = multiply(invertRigid(from), multiply(to, multiply(beside, translation(0, 0, -ideal))))
    const turn = rotationVector(way)
    let [busy, at] = [false, 0]
    this.timer = setInterval(() => {
      if (busy || !goes()) return
      busy = true
      at = Math.min(1, at + STEP / 1000 / BACK_SECONDS)
      const part = multiply(translation(at * way[3], at * way[7], at * way[11]), fromRotationVector(at * turn[0], at * turn[1], at * turn[2]))
      this.hold(multiply(from, part))
        .catch(failed)
        .finally(() => {
          busy = false
          if (at >= 1) this.stop()
          this.moved()
        })
    }, STEP)
  }

  stop(): void {
    clearInterval(this.timer)
    this.timer = undefined
    this.at = null
  }
}
