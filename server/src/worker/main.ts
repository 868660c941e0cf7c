import PgBoss from 'pg-boss'
import { QueryTypes } from 'sequelize'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import { connect } from '../db/connect.ts'
import { JobRow, StepRow } from '../db/models.ts'
import { openBus } from '../events.ts'
import { QUEUE } from '../ledger/enqueue.ts'
import { log } from '../log.ts'
import { toProblem } from '../problem.ts'
import { sweepBlobs } from '../blobs.ts'
import { ArrayCache } from './cache.ts'
import { executeStep } from './execute.ts'
import { runnerThread } from './thread.ts'

/**
 * A worker: takes messages "this job has work", and runs the job's oldest waiting step while holding the job's lock.
 * Any number of workers on any machine may do so with the same database address. A lock lives as long as its connection:
 * when a worker dies, its job is free again, and its step is found running without a lock and put back.
 */
const url = process.env['DATABASE_URL']
if (!url) throw new Error('DATABASE_URL is not set')
const db = await connect(url)
const bus = await openBus(url, db.pool)
const boss = new PgBoss({ connectionString: url, max: 4 })
boss.on('error', (e) => log.error({ err: e }, 'queue'))
await boss.start()
await boss.createQueue(QUEUE)
const cache = new ArrayCache(db.pool)
const runner = runnerThread(url)
const MAX_ATTEMPTS = 3

let stopping = false
let wake: () => void = () => undefined
bus.on('wake', () => wake())
const cancels = new Map<string, () => void>()
bus.on('cancel', (step) => cancels.get(step)?.())

async function loop(): Promise<void> {
  let swept = Date.now()
  while (!stopping) {
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
    if (Date.now() - swept > 3_600_000) {
      swept = Date.now()
      const n = await sweepBlobs(db.pool)
      if (n) log.info({ blobs: n }, 'swept')
    }
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, 1000)
      wake = () => {
        clearTimeout(timer)
        resolve()
      }
    })
  }
}

/** Steps marked running whose job nobody holds: their worker died. */
async function putBackOrphans(): Promise<void> {
  for (const s of await StepRow.findAll({ where: { state: 'running' } })) {
    await withJobLock(s.jobId, async () => {
      await s.reload()
      if (s.state !== 'running') return
      if (s.attempts >= MAX_ATTEMPTS)
        await fail(
          s,
          new OakError('worker-died', `The step brought the computing process down ${s.attempts} times.`, {
            remedy: 'Use a coarser setting, or fewer points. The job is as it was before.',
          }),
        )
      else {
        log.warn({ step: s.id }, 'a worker died; its step is run again')
        await s.update({ state: 'queued' })
        await boss.send(QUEUE, { job: s.jobId })
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
  const free = await withJobLock(job, async () => {
    const step = await StepRow.findOne({ where: { jobId: job, state: 'queued' }, order: [['seq', 'ASC']] })
    if (step) await runStep(step)
  })
  // another worker is at this job; what we were told of must still be done after it
  if (!free) await boss.send(QUEUE, { job }, { startAfter: 1 })
}

async function runStep(step: StepRow): Promise<void> {
  await step.update({ state: 'running', startedAt: new Date(), attempts: step.attempts + 1, progress: 0 })
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
            void StepRow.findByPk(step.id).then((s) => {
              if (s?.cancel) f()
            })
          },
        },
        onProgress,
      ),
    )
    log.info({ step: step.id, operation: step.operation, milliseconds: Math.round(performance.now() - began) }, 'done')
  } catch (e) {
    await fail(step, e)
  } finally {
    cancels.delete(step.id)
    await writing
    await bus.emit({ type: 'changed', job: step.jobId })
  }
}

async function fail(step: StepRow, e: unknown): Promise<void> {
  const problem = toProblem(e)
  if (problem.code === 'internal') log.error({ err: e, cause: (e as Error).cause, step: step.id }, 'step failed')
  else log.info({ step: step.id, code: problem.code }, 'step refused')
  await step.reload().catch(() => undefined)
  await step.update({ state: e instanceof Cancelled ? 'cancelled' : 'failed', problem, finishedAt: new Date() })
  if (!step.batch) return
  // a repetition that fails leaves the job where it was before
  await StepRow.update({ state: 'cancelled', finishedAt: new Date() }, { where: { batch: step.batch, state: 'queued' } })
  if (step.origin) await JobRow.update({ head: step.origin, tip: step.origin }, { where: { id: step.jobId } })
}

async function stop(): Promise<void> {
  if (stopping) return
  stopping = true
  wake()
  await runner.close()
  await boss.stop({ graceful: false })
  await bus.close()
  await db.close()
  process.exit(0)
}
process.on('SIGTERM', () => void stop())
process.on('SIGINT', () => void stop())
// a worker started by the server ends with it
process.on('disconnect', () => void stop())

// jobs left by a queue that was lost (a restored dump without it): one message for each waiting step is enough
const waiting = await db.sequelize.query<{ job_id: string }>(`select job_id from step where state = 'queued'`, { type: QueryTypes.SELECT })
for (const w of waiting) await boss.send(QUEUE, { job: w.job_id })
process.send?.('ready')
log.info('worker ready')
await loop()
