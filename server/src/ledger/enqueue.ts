import { randomUUID } from 'node:crypto'
import type PgBoss from 'pg-boss'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { q } from '@oak-gauge/core/operations/quantities.ts'
import { checkedParams, operation } from '@oak-gauge/core/operations/registry.ts'
import type { StepRequest } from '@oak-gauge/contract'
import { JobRow, StepRow } from '../db/models.ts'
import type { Bus } from '../events.ts'
import { loadLedger, pathTo, SET_ASIDE, type Ledger } from './state.ts'

export const QUEUE = 'steps'

export interface Queue {
  boss: PgBoss
  bus: Bus
}

/** Tells the workers that this job has a step to run. The message names the job, not the step: see worker/main.ts. */
async function send({ boss, bus }: Queue, jobId: string): Promise<void> {
  await boss.send(QUEUE, { job: jobId }, { retryLimit: 3, expireInHours: 6 })
  await bus.wake()
  await bus.emit({ type: 'changed', job: jobId })
}

async function refuseWhileBusy(jobId: string, what: string): Promise<void> {
  const busy = await StepRow.findOne({ where: { jobId, state: ['queued', 'running'] } })
  if (busy) throw new OakError('busy', `A step is still running: ${what} must wait.`, { remedy: 'Wait for it, or cancel it.' })
}

/** Checks what can be checked beforehand, and puts the step into the queue. */
export async function enqueueStep(queue: Queue, jobId: string, request: StepRequest): Promise<StepRow> {
  const ledger = await loadLedger(jobId)
  if (request.operation === SET_ASIDE) return setAside(queue, ledger, request.inputs?.['items'] ?? [])
  const op = operation(request.operation)
  if (op.inputs['file']) throw new OakError('wrong-input', 'Files are brought in by dropping them.', { remedy: 'Send the file itself.' })
  checkedParams(op, request.params)
  const waiting = ledger.steps.some((s) => s.state === 'queued' || s.state === 'running')
  for (const [port, slots] of Object.entries(request.inputs ?? {})) {
    if (!op.inputs[port])
      throw new OakError('wrong-input', `${op.title} has no input “${port}”.`, { where: op.name, remedy: `It has: ${Object.keys(op.inputs).join(', ')}.` })
    // while other steps run, what they will make is not there yet
    for (const s of slots)
      if (!waiting && !ledger.tray.has(s))
        throw new OakError('not-on-tray', 'What this step needs is not on the tray any more.', { where: `${op.name}, ${port}`, remedy: 'Choose again.' })
  }
  const step = await StepRow.create({
    jobId,
    operation: op.name,
    version: op.version,
    params: request.params ?? {},
    inputs: request.inputs ?? {},
    preview: request.preview ?? false,
  })
  await send(queue, jobId)
  return step
}

/** A step that reads a file which is in the database already. */
export async function enqueueFile(
  queue: Queue,
  jobId: string,
  name: 'import' | 'import-markers' | 'map-markers',
  file: {
    id: string
    name: string
    role?: string | undefined
    setup?: string | undefined
    unit?: string | undefined
    params?: Record<string, unknown>
    inputs?: Record<string, string[]>
    recordedWith?: StepRow['recordedWith']
  },
): Promise<StepRow> {
  const op = operation(name)
  const step = await StepRow.create({
    jobId,
    operation: op.name,
    version: op.version,
    params: { ...file.params, ...(file.unit ? { unit: file.unit } : {}) },
    inputs: file.inputs ?? {},
    fileId: file.id,
    fileName: file.name,
    fileRole: file.role ?? null,
    setupId: file.setup ?? null,
    recordedWith: file.recordedWith ?? null,
  })
  await send(queue, jobId)
  return step
}

async function setAside(queue: Queue, ledger: Ledger, slots: string[]): Promise<StepRow> {
  const { job } = ledger
  await refuseWhileBusy(job.id, 'setting aside')
  if (!slots.length || slots.some((s) => !ledger.tray.has(s)))
    throw new OakError('not-on-tray', 'That is not on the tray.', { remedy: 'Choose what to set aside.' })
  const names = slots.map((s) => ledger.tray.get(s)?.name ?? '')
  const step = await StepRow.create({
    jobId: job.id,
    operation: SET_ASIDE,
    version: 1,
    params: {},
    inputs: { items: slots },
    state: 'done',
    chained: true,
    parent: job.head,
    milliseconds: 0,
    evidence: { quantities: [q('set-aside', names.join(', '))], warnings: [] },
  })
  await job.update({ head: step.id, tip: step.id })
  await queue.bus.emit({ type: 'changed', job: job.id })
  return step
}

/** Moves the job to a step of its ledger, or before the first. Nothing is deleted; the branch left behind stays. */
export async function moveHead(queue: Queue, jobId: string, to: string | null): Promise<void> {
  await refuseWhileBusy(jobId, 'stepping')
  const { job, steps } = await loadLedger(jobId)
  const target = to === null ? null : steps.find((s) => s.id === to)
  if (to !== null && !target?.chained) throw new OakError('not-found', 'That step is not in the ledger of this job.', { remedy: 'Choose another.' })
  // going to a step off the present branch makes its own newest end the one that stepping forward leads to
  const onBranch = to === null || pathTo(steps, job.tip).some((s) => s.id === to)
  await job.update({ head: to, ...(onBranch ? {} : { tip: newestEnd(steps, to) }) })
  await queue.bus.emit({ type: 'changed', job: jobId })
}

function newestEnd(steps: StepRow[], from: string): string {
  let end = from
  for (;;) {
    const next = steps.findLast((s) => s.chained && s.parent === end)
    if (!next) return end
    end = next.id
  }
}

/**
 * A step once more with other settings, and after it all that came after it on the present branch. Steps that it does not
 * touch are free, since the same step on the same data is looked up. The old branch stays in the ledger.
 * A step that failed (a file of unknown unit) is simply tried again.
 */
export async function rerunStep(queue: Queue, jobId: string, stepId: string, params: Record<string, unknown>): Promise<StepRow[]> {
  await refuseWhileBusy(jobId, 'running again')
  const { job, steps, path } = await loadLedger(jobId)
  const step = steps.find((s) => s.id === stepId)
  if (!step || step.operation === SET_ASIDE) throw new OakError('not-found', 'That step cannot be run again.', { remedy: 'Choose another.' })
  checkedParams(operation(step.operation), params)
  if (!step.chained) {
    await step.update({ state: 'queued', params, problem: null, evidence: null, progress: 0, phase: '', cancel: false, attempts: 0 })
    await send(queue, jobId)
    return [step]
  }
  const at = path.findIndex((s) => s.id === stepId)
  if (at < 0) throw new OakError('not-found', 'That step lies on another branch.', { remedy: 'Go to that branch first.' })
  const batch = randomUUID()
  const origin = job.head
  await job.update({ head: step.parent })
  const again: StepRow[] = []
  for (const s of path.slice(at))
    again.push(
      await StepRow.create({
        jobId,
        operation: s.operation,
        version: s.version,
        params: s.id === stepId ? params : s.params,
        inputs: s.inputs,
        slots: s.slots,
        batch,
        origin,
        fileId: s.fileId,
        fileName: s.fileName,
        fileRole: s.fileRole,
        recordedWith: s.recordedWith,
        setupId: s.setupId,
      }),
    )
  for (let i = 0; i < again.length; i++) await send(queue, jobId)
  return again
}

export async function cancelStep(queue: Queue, jobId: string, stepId: string): Promise<void> {
  const step = await StepRow.findOne({ where: { id: stepId, jobId } })
  if (!step) throw new OakError('not-found', 'There is no such step.')
  await StepRow.update({ state: 'cancelled', finishedAt: new Date() }, { where: { id: stepId, state: 'queued' } })
  await StepRow.update({ cancel: true }, { where: { id: stepId, state: 'running' } })
  // steps that wait for this one in the same run have nothing to wait for any more
  if (step.batch) await StepRow.update({ state: 'cancelled', finishedAt: new Date() }, { where: { batch: step.batch, state: 'queued' } })
  await queue.bus.cancel(stepId)
  await queue.bus.emit({ type: 'changed', job: jobId })
}

/** A failed or cancelled step that the person has read about. It stays in the database, and leaves the screen. */
export async function dismissStep(queue: Queue, jobId: string, stepId: string): Promise<void> {
  await StepRow.destroy({ where: { id: stepId, jobId, chained: false, state: ['failed', 'cancelled', 'done'] } })
  await queue.bus.emit({ type: 'changed', job: jobId })
}

export async function jobIsBusy(job: JobRow): Promise<boolean> {
  return (await StepRow.count({ where: { jobId: job.id, state: ['queued', 'running'] } })) > 0
}
