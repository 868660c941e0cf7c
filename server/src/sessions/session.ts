import { randomUUID } from 'node:crypto'
import { UniqueConstraintError } from 'sequelize'
import type { LinkFrame, Problem, RunState } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { SessionRow, type ScannerRow } from '../db/scannermodels.ts'
import { toProblem } from '../problem.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { fromPlain, toPlain } from './plain.ts'

/** This process, as the holder of sessions. */
const HOLDER = randomUUID()

/**
 * What goes on with a scanner: a calibration, a verification, a mapping. A session is a record: how far it is, is stored as it comes, and
 * whichever process finds it open after a restart leads it on from there. A kind of session adds its own part: what it does with frames, and what it stores.
 */
export abstract class Session<View extends RunState = RunState, Progress = unknown> {
  abstract readonly kind: View['kind']
  protected readonly keeper: ScannerKeeper
  protected readonly scanner: ScannerRow
  protected readonly record: SessionRow
  protected readonly view: View
  protected ended = false
  private waiting: (() => void)[] = []

  protected constructor(keeper: ScannerKeeper, scanner: ScannerRow, record: SessionRow, view: View) {
    this.keeper = keeper
    this.scanner = scanner
    this.record = record
    this.view = view
  }

  phase(): string {
    return this.view.phase
  }
  /** nothing more is to be done by it */
  over(): boolean {
    return this.ended
  }
  state(): View {
    return this.view
  }
  abstract frame(f: LinkFrame): void | Promise<void>
  /** Puts things before a stand-in, and has the scanner send: at the start, and each time its link is back. */
  abstract begin(): Promise<void>
  /** Its button was pressed, by somebody whose hands are at the part. */
  button(): void {}
  /** the link is gone; the session waits */
  abstract lost(): void
  /** it is back */
  abstract found(): void
  /** this process ends: what is on its way to the database arrives there */
  async settle(): Promise<void> {}

  /** How far it is, as the next process has to know it. */
  protected async save(progress: Progress): Promise<void> {
    await this.keep({ progress: toPlain(progress) as object })
  }

  /** Ends it for good. */
  protected async close(state: 'done' | 'cancelled' | 'failed', problem: Problem | null = null): Promise<void> {
    await this.keep({ state, problem, endedAt: new Date() })
    this.ended = true
    this.wake()
  }

  private async keep(values: Partial<Pick<SessionRow, 'progress' | 'state' | 'problem' | 'endedAt'>>): Promise<void> {
    const [n] = await patiently(() => SessionRow.update(values, { where: { id: this.record.id, holder: HOLDER, state: 'open' } }))
    if (n) return
    this.ended = true
    this.wake()
    throw new OakError('not-ours', 'Another process leads this session by now.', { remedy: 'Load the page again.' })
  }

  /** Resolves when good() holds or the session is over, or after five seconds. */
  protected news(good: () => boolean): Promise<void> {
    if (this.ended || good()) return Promise.resolve()
    return new Promise((resolve) => {
      this.waiting.push(resolve)
      setTimeout(resolve, 5000).unref()
    })
  }
  protected wake(): void {
    for (const w of this.waiting.splice(0)) w()
  }
  protected changed(): void {
    this.keeper.changed(this.scanner.id)
  }

  protected async quiet(): Promise<void> {
    await this.keeper
      .of(this.scanner.id)
      .link?.order({ type: 'mode', mode: 'idle' })
      .catch(() => undefined)
  }

  /** Begins a new session. Throws what the scanner refuses it with. */
  async launch(): Promise<this> {
    const connection = this.keeper.of(this.scanner.id)
    connection.run = this
    try {
      await this.begin()
    } catch (e) {
      // a link that broke just now comes back by itself, and it begins then
      if (connection.link) {
        await this.close('failed', toProblem(e))
        throw e
      }
      this.lost()
    }
    this.changed()
    return this
  }
}

/** Does what the database must hear, also when it is away for a moment: a session waits for it then, rather than going past what was not stored. */
export async function patiently<T>(store: () => Promise<T>): Promise<T> {
  for (let attempt = 0; ; attempt++)
    try {
      return await store()
    } catch (e) {
      if (attempt === PATIENCE || toProblem(e).code !== 'database-away') throw e
      await new Promise((resolve) => setTimeout(resolve, 500))
    }
}
/** times half a second */
const PATIENCE = 120

/** Opens the record of a session. Throws 'busy' when another one of the scanner is open. */
export async function openSession(kind: SessionRow['kind'], scanner: ScannerRow, options: unknown, jobId: string | null = null): Promise<SessionRow> {
  try {
    return await SessionRow.create({ kind, scannerId: scanner.id, jobId, holder: HOLDER, options: toPlain(options) as object })
  } catch (e) {
    if (e instanceof UniqueConstraintError)
      throw new OakError('busy', `${scanner.name} is being used already.`, { remedy: 'End what is going on with it first, or give it up.' })
    throw e
  }
}

/** Takes over what an ended process left open. */
export async function takeOver(): Promise<{ record: SessionRow; options: unknown; progress: unknown }[]> {
  const [, rows] = await SessionRow.update({ holder: HOLDER }, { where: { state: 'open' }, returning: true })
  return rows.map((record) => ({ record, options: fromPlain(record.options), progress: fromPlain(record.progress) }))
}
