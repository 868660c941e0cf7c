import { randomUUID } from 'node:crypto'
import { Op, QueryTypes } from 'sequelize'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import { takeBackSeat } from '../backseat.ts'
import { connect } from '../db/connect.ts'
import { JobRow, StepRow } from '../db/models.ts'
import { tellWorkers } from '../ledger/change.ts'
import { versionOf } from '../ledger/state.ts'
import { log, tellUnheard } from '../log.ts'
import { withParent } from '../parent.ts'
import { toProblem } from '../problem.ts'
import { openQueue, QUEUE } from '../queue.ts'
import { isSwept, sweepBlobs } from '../blobs.ts'
import { sweepFrames } from '../sessions/framelog.ts'
import { ArrayCache } from './cache.ts'
import { executeStep, NotOurs } from './execute.ts'
import { runnerThread } from './thread.ts'

/**
 * A worker: takes messages "this job has work", and runs the job's oldest waiting step while holding the job's lock.
 * Any number of workers on any machine may do so with the same database address. A lock lives as long as its connection:
 * when a worker dies, its job is free again, and its step is found running without a lock and put back.
 */
const url = process.env['DATABASE_URL']
if (!url) throw new Error('DATABASE_URL is not set')
tellUnheard()
takeBackSeat()
const db = await connect(url)
const queue = await openQueue(db, 'worker', 4)
const { boss, bus } = queue
const cache = new ArrayCache(db.pool)
const runner = runnerThread(url)
const MAX_ATTEMPTS = 3
/** ms */
const LONGEST = 4000
const ROOM = 5000
/** s */
const OTHER_AGAIN = 3
const FORGOTTEN = 3
const OTHER_VERSION = 'waits for a computing process of its version'

let stopping = false
let looping = Promise.resolve()
let wake: () => void = () => undefined
bus.on('wake', () => wake())
bus.on('restored', () => void stop())
const cancels = new Map<string, () => void>()
bus.on('cancel', (step) => cancels.get(step)?.())

async function loop(): Promise<void> {
  let swept = Date.now()
  while (!stopping) {
    try {
      await putBackOrphans()
      const [message] = await boss.fetch<{ job: string }>(QUEUE)
      if (message) {
        try {
          await workOn(message.data.job)
        } catch (e) {
          log.error({ err: e, job: message.data.job }, 'job')
        }
        await boss.complete(QUEUE, message.id)
        continue
      }
      await lookForForgotten()
      if (Date.now() - swept > 3_600_000) {
        swept = Date.now()
        const [blobs, frames] = [await sweepBlobs(db.pool), await sweepFrames(db.pool)]
        if (blobs || frames) log.info({ blobs, frames }, 'swept')
      }
    } catch (e) {
      // the database is away; what was being done is put back when it is there again
      log.warn({ err: e }, 'the worker waits for its database')
    }
    await idle(1000)
  }
}

/** Until somebody says that there is work, at most so many ms. */
const idle = (most: number) =>
  new Promise<void>((resolve) => {
    const timer = setTimeout(resolve, most)
    wake = () => {
      clearTimeout(timer)
      resolve()
    }
  })

/** Steps marked running whose job nobody holds: their worker died. */
async function putBackOrphans(): Promise<void> {
  for (const s of await StepRow.findAll({ where: { state: 'running' } })) {
    await withJobLock(s.jobId, async () => {
      await s.reload()
      if (s.state !== 'running') return
      if (s.attempts + 1 >= MAX_ATTEMPTS)
        await fail(
          s,
          new OakError('worker-died', `The step brought the computing process down ${MAX_ATTEMPTS} times.`, {
            remedy: 'Use a coarser setting, or fewer points. The job is as it was before.',
          }),
        )
      else {
        log.warn({ step: s.id }, 'a worker died; its step is run again')
        await putBack(s, s.attempts + 1)
      }
    })
  }
}

/** Runs f if the job's lock is free. False when somebody else holds it. */
async function withJobLock(job: string, f: () => Promise<void>): Promise<boolean> {
  const client = await db.pool.connect()
  try {
    const r = await client.query<{ ok: boolean }>('select pg_try_advisory_lock(hashtextextended($1, 0)) as ok', [job])
    if (!r.rows[0].ok) return false
    try {
      await f()
    } finally {
      await client.query('select pg_advisory_unlock(hashtextextended($1, 0))', [job])
    }
    return true
  } finally {
    client.release()
  }
}

async function workOn(job: string): Promise<void> {
  // another worker is at this job; what we were told of must still be done after it
  if (!(await runOldest(job))) await boss.send(QUEUE, { job }, { startAfter: 1 })
}

/** Runs the oldest waiting step of a job. False when another worker is at the job. */
const runOldest = (job: string): Promise<boolean> =>
  withJobLock(job, async () => {
    const step = await StepRow.findOne({ where: { jobId: job, state: 'queued' }, order: [['seq', 'ASC']] })
    if (!step) return
    if (versionOf(step.operation) === step.version) return runStep(step)
    // a worker of that version may be there, or come; the web server of this one asks for ours
    const [told] = await StepRow.update({ phase: OTHER_VERSION }, { where: { id: step.id, state: 'queued', phase: { [Op.ne]: OTHER_VERSION } } })
    if (told) await bus.emit({ type: 'changed', job })
    await boss.send(QUEUE, { job }, { startAfter: OTHER_AGAIN })
  })

/**
 * Steps that wait though nobody was told of them: a message that was taken from the queue just when the connection broke, or a queue that was lost with an older
 * dump. Those that say what they wait for come again by themselves.
 */
async function lookForForgotten(): Promise<void> {
  const forgotten = await db.sequelize.query<{ job_id: string }>(
    `select distinct job_id from step s where state = 'queued' and phase = '' and created_at < now() - interval '${FORGOTTEN} seconds'
     and not exists (select 1 from step r where r.job_id = s.job_id and r.state = 'running')`,
    { type: QueryTypes.SELECT },
  )
  for (const { job_id: job } of forgotten) await runOldest(job)
}

async function runStep(step: StepRow): Promise<void> {
  // a cancel may have come just before
  const attempt = randomUUID()
  const [begun] = await StepRow.update(
    { state: 'running', attempt, startedAt: new Date(), progress: 0, phase: '' },
    { where: { id: step.id, state: 'queued' } },
  )
  if (!begun) return
  await step.reload()
  // taken away between the two: its number is not ours to use
  if (step.attempt !== attempt) return
  await bus.emit({ type: 'changed', job: step.jobId })
  const began = performance.now()
  let said = 0
  let writing = Promise.resolve()
  const onProgress = (done: number, phase: string) => {
    const now = performance.now()
    if (now - said < 200) return
    said = now
    const remaining = done > 0.03 ? ((now - began) / done) * (1 - done) : null
    writing = bus.emit({ type: 'progress', job: step.jobId, step: step.id, progress: done, phase, remaining })
  }
  try {
    await executeStep(db, cache, step, (request) =>
      runner.run(
        request,
        {
          onCancel: (f) => {
            cancels.set(step.id, f)
            // a cancel that came before anybody listened; a database that is away fails the step by itself
            StepRow.findByPk(step.id).then(
              (s) => {
                if (s?.cancel) f()
              },
              () => undefined,
            )
          },
        },
        onProgress,
      ),
    )
    log.info({ step: step.id, operation: step.operation, milliseconds: Math.round(performance.now() - began) }, 'done')
  } catch (e) {
    const { code } = toProblem(e)
    if (code === 'disk-full') await waitForRoom(step)
    // this worker ends, the step does not: the next worker takes it
    else if (stopping || e instanceof NotOurs || isSwept(e) || code === 'database-away') await putBack(step)
    else await fail(step, e)
  } finally {
    cancels.delete(step.id)
    await writing
    await bus.emit({ type: 'changed', job: step.jobId })
  }
}

/** Another worker, or this one once more, may take it: state, count of attempts and message together, or whoever dies in between leaves a step that nobody takes, or counts it twice. */
async function putBack(step: StepRow, attempts = step.attempts, phase = '', startAfter = 0): Promise<void> {
  await db.sequelize.transaction(async (transaction) => {
    const [back] = await StepRow.update(
      { state: 'queued', progress: 0, attempts, phase },
      { where: { id: step.id, state: 'running', attempt: step.attempt }, transaction },
    )
    if (back) await tellWorkers(boss, step.jobId, transaction, startAfter)
  })
}

/** No fault of the step: it waits, and is tried again every few seconds. Even to write that down there may be no room. */
async function waitForRoom(step: StepRow): Promise<void> {
  log.error({ step: step.id }, 'the disk of the database is full; the step waits')
  while (!stopping)
    try {
      return await putBack(step, step.attempts, 'waits for room: the disk of the database is full', ROOM / 1000)
    } catch (e) {
      if (toProblem(e).code !== 'disk-full') throw e
      await new Promise((resolve) => setTimeout(resolve, ROOM))
    }
}

async function fail(step: StepRow, e: unknown): Promise<void> {
  const problem = toProblem(e)
  if (problem.code === 'internal') log.error({ err: e, cause: (e as Error).cause, step: step.id }, 'step failed')
  else log.info({ step: step.id, code: problem.code }, 'step refused')
  await db.sequelize.transaction(async (transaction) => {
    await JobRow.findByPk(step.jobId, { transaction, lock: true, attributes: ['id'] })
    const ended = { state: e instanceof Cancelled ? 'cancelled' : 'failed', problem, finishedAt: new Date() } as const
    const [ours] = await StepRow.update(ended, { where: { id: step.id, state: 'running', attempt: step.attempt }, transaction })
    if (!ours || !step.batch) return
    // a repetition that fails leaves the job where it was before
    await StepRow.update({ state: 'cancelled', finishedAt: new Date() }, { where: { batch: step.batch, state: 'queued' }, transaction })
    await JobRow.update({ head: step.origin, ...(step.origin ? { tip: step.origin } : {}) }, { where: { id: step.jobId }, transaction })
  })
}

/** Puts back what is being done, and ends; at the latest after LONGEST, whatever hangs. */
async function stop(): Promise<void> {
  if (stopping) return
  stopping = true
  setTimeout(() => process.exit(1), LONGEST).unref()
  wake()
  runner.close()
  await looping
  await queue.close()
  await db.close()
  process.exit(0)
}
process.on('SIGTERM', () => void stop())
process.on('SIGINT', () => void stop())
// a worker started by the server ends with it
withParent(() => void stop())

process.send?.('ready')
log.info('worker ready')
looping = loop()
await looping
