import { QueryTypes, type Transaction } from 'sequelize'
import type PgBoss from 'pg-boss'
import { endOf } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { JobRow, StepRow } from '../db/models.ts'
import { QUEUE, type Queue } from '../queue.ts'
import { aboutStep, loadLedger, pathTo, type Ledger } from './state.ts'

/** What every request that changes a ledger says of itself. */
export interface Asked {
  /** the step behind which it was asked for; left out: behind whatever there is */
  after?: string | null | undefined
  /** a number of its own: sent twice it is one request */
  request?: string | undefined
}

/** One change of one job. */
export interface Change extends Ledger {
  transaction: Transaction
  /** tells the workers, once the change stands, that this job has steps to run */
  wake(): void
}

/**
 * Changes a job's ledger: one change after the other, the job's row locked, and steps, head and message to the workers together or not at all.
 */
export async function changing<T>(queue: Queue, jobId: string, change: (c: Change) => Promise<T>): Promise<T> {
  const { sequelize } = JobRow
  if (!sequelize) throw new Error('the models have no connection')
  let steps = 0
  const done = await sequelize.transaction(async (transaction) => {
    await JobRow.findByPk(jobId, { transaction, lock: true, attributes: ['id'] })
    const ledger = await loadLedger(jobId, transaction)
    const result = await change({ ...ledger, transaction, wake: () => steps++ })
    for (let i = 0; i < steps; i++) await tellWorkers(queue.boss, jobId, transaction)
    return result
  })
  if (steps) await queue.bus.wake()
  await queue.bus.emit({ type: 'changed', job: jobId })
  return done
}

/** The message that a job has work: part of the transaction that made the work. startAfter: s */
export async function tellWorkers(boss: PgBoss, job: string, transaction: Transaction, startAfter = 0): Promise<void> {
  // Sequelize takes no undefined value
  const executeSql = async (text: string, values: unknown[]) => ({
    rows: (await JobRow.sequelize?.query(text, { bind: values.map((v) => v ?? null), type: QueryTypes.SELECT, transaction })) ?? [],
  })
  await boss.send(QUEUE, { job }, { retryLimit: 3, expireInHours: 6, startAfter, db: { executeSql } })
}

/** Throws 'moved-on' when the job is not any more where whoever asks saw it, and says what happened. Files that came in meanwhile do not matter: they only add. */
export function mustStandAt({ job, steps }: Ledger, after: string | null | undefined): void {
  const end = endOf(job.head, steps)
  if (after === undefined || after === end) return
  const way = wayTo(steps, end, job.head)
  const at = after === null ? 0 : way.findIndex((s) => s.id === after) + 1
  const since = after === null || at > 0 ? way.slice(at) : null
  if (since?.every((s) => ADDING.includes(s.operation))) return
  const title = (s: StepRow) => `“${aboutStep(s.operation).title}”`
  const fallen = steps.find((s) => s.id === after && (s.state === 'failed' || s.state === 'cancelled'))
  const what = fallen
    ? `${title(fallen)}, which this was to follow, ${fallen.state === 'failed' ? 'has failed' : 'was cancelled'}.`
    : since?.length
      ? `The job has gone on meanwhile: ${since.map(title).join(', ')} came in between.`
      : 'The job has been stepped to another place meanwhile.'
  throw new OakError('moved-on', what, { remedy: 'Look at where the job stands now, and ask again.' })
}
const ADDING = ['import', 'import-markers', 'solve-recording']

/** Steps from the first to where the next one comes: what stands, and behind it what waits. */
function wayTo(steps: StepRow[], end: string | null, head: string | null): StepRow[] {
  const way = pathTo(steps, head)
  return end === head ? way : [...way, ...steps.filter((s) => !s.preview && isOpen(s))]
}

export const isOpen = (s: StepRow): boolean => s.state === 'queued' || s.state === 'running'

/** Throws 'busy' while steps of the job wait or run. */
export function mustBeQuiet({ steps }: Ledger, what: string): void {
  if (steps.some(isOpen)) throw new OakError('busy', `A step is still running: ${what} must wait.`, { remedy: 'Wait for it, or cancel it.' })
}

/**
 * The step that the same request made before: by its number, or because it asks for the same behind the same step (a double click). A step that was stepped
 * back from does not count: whoever asks for it again wants it again.
 */
export function madeBefore({ job, steps }: Ledger, asked: Asked, same: (s: StepRow) => boolean): StepRow | undefined {
  const { after, request } = asked
  const again = request === undefined ? undefined : steps.find((s) => s.request === request)
  if (again || after === undefined) return again
  const standing = [...wayTo(steps, endOf(job.head, steps), job.head), ...steps.filter((s) => s.preview && isOpen(s))]
  return standing.find((s) => s.askedAfter === (after ?? NOWHERE) && same(s))
}
/** Stands for “before the first step”, which is not the same as not knowing. */
export const NOWHERE = '00000000-0000-0000-0000-000000000000'
