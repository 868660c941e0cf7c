import { randomUUID } from 'node:crypto'
import { isDeepStrictEqual } from 'node:util'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Operation } from '@oak-gauge/core/operations/operation.ts'
import { checkedParams, operation } from '@oak-gauge/core/operations/registry.ts'
import type { StepRequest } from '@oak-gauge/contract'
import { StepRow } from '../db/models.ts'
import { changing, isOpen, madeBefore, mustBeQuiet, mustStandAt, NOWHERE, type Asked, type Change } from './change.ts'
import type { Queue } from '../queue.ts'
import { pathTo, SET_ASIDE, setAsideEvidence, versionOf, type Ledger } from './state.ts'

/** Checks what can be checked beforehand, and puts the step into the queue. */
export function enqueueStep(queue: Queue, jobId: string, request: StepRequest): Promise<StepRow> {
  return changing(queue, jobId, async (c) => {
    const { operation: name, inputs = {}, params = {}, preview = false } = request
    const twin = madeBefore(c, request, (s) => s.operation === name && s.preview === preview && alike(s.inputs, inputs) && alike(s.params, params))
    if (twin) return twin
    if (!preview) mustStandAt(c, request.after)
    if (name === SET_ASIDE) return setAside(c, inputs['items'] ?? [], request)
    check(c, request)
    c.wake()
    return StepRow.create(
      { jobId, operation: name, version: operation(name).version, params, inputs, preview, ...askedOf(request) },
      { transaction: c.transaction },
    )
  })
}

const alike = (a: unknown, b: unknown) => isDeepStrictEqual(a, JSON.parse(JSON.stringify(b)))
export const askedOf = ({ after, request }: Asked) => ({ request: request ?? null, askedAfter: after === undefined ? null : (after ?? NOWHERE) })

/** The operation of that name. Throws when it takes a file, has no such ports, or the settings are none of its. */
export function suited(name: string, params: Record<string, unknown> | undefined, ports: string[]): Operation {
  const op = operation(name)
  if (op.inputs['file']) throw new OakError('wrong-input', 'Files are brought in by dropping them.', { where: op.name, remedy: 'Send the file itself.' })
  checkedParams(op, params)
  for (const port of ports)
    if (!op.inputs[port])
      throw new OakError('wrong-input', `${op.title} has no input “${port}”.`, { where: op.name, remedy: `It has: ${Object.keys(op.inputs).join(', ')}.` })
  return op
}

function check(ledger: Ledger, { operation: name, params, inputs = {} }: StepRequest): void {
  const op = suited(name, params, Object.keys(inputs))
  const waiting = ledger.steps.some(isOpen)
  for (const [port, slots] of Object.entries(inputs)) {
    // while other steps run, what they will make is not there yet
    for (const s of slots)
      if (!waiting && !ledger.tray.has(s))
        throw new OakError('not-on-tray', 'What this step needs is not on the tray any more.', { where: `${op.name}, ${port}`, remedy: 'Choose again.' })
  }
}

/** A file in the database, and what is said of it. */
export interface FileToRead {
  operation: 'import' | 'import-markers' | 'map-markers' | 'solve-recording'
  id: string
  name: string
  role?: string | undefined
  setup?: string | undefined
  unit?: string | undefined
  params?: Record<string, unknown>
  inputs?: Record<string, string[]>
  recordedWith?: StepRow['recordedWith']
  request?: string | undefined
}

/** A step that reads a file which is in the database already. */
export function enqueueFile(queue: Queue, jobId: string, file: FileToRead): Promise<StepRow> {
  const op = operation(file.operation)
  return changing(queue, jobId, async (c) => {
    const twin = madeBefore(c, { request: file.request }, () => false)
    if (twin) return twin
    c.wake()
    return StepRow.create(
      {
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
        request: file.request ?? null,
      },
      { transaction: c.transaction },
    )
  })
}

async function setAside(c: Change, slots: string[], asked: Asked): Promise<StepRow> {
  const { job, transaction } = c
  mustBeQuiet(c, 'setting aside')
  const step = await StepRow.create(
    {
      jobId: job.id,
      operation: SET_ASIDE,
      version: 1,
      params: {},
      inputs: { items: slots },
      state: 'done',
      chained: true,
      parent: job.head,
      milliseconds: 0,
      evidence: setAsideEvidence(c, slots),
      ...askedOf(asked),
    },
    { transaction },
  )
  await job.update({ head: step.id, tip: step.id }, { transaction })
  return step
}

/** Moves the job to a step of its ledger, or before the first. Nothing is deleted; the branch left behind stays. */
export function moveHead(queue: Queue, jobId: string, to: string | null, after?: string | null): Promise<void> {
  return changing(queue, jobId, async (c) => {
    const { job, steps, transaction } = c
    mustBeQuiet(c, 'stepping')
    // twice the same step back is one
    if (job.head === to) return
    mustStandAt(c, after)
    const target = to === null ? null : steps.find((s) => s.id === to)
    if (to !== null && !target?.chained) throw new OakError('not-found', 'That step is not in the ledger of this job.', { remedy: 'Choose another.' })
    // going to a step off the present branch makes its own newest end the one that stepping forward leads to
    const onBranch = to === null || pathTo(steps, job.tip).some((s) => s.id === to)
    await job.update({ head: to, ...(onBranch ? {} : { tip: newestEnd(steps, to) }) }, { transaction })
  })
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
export function rerunStep(queue: Queue, jobId: string, stepId: string, params: Record<string, unknown>, asked: Asked = {}): Promise<StepRow[]> {
  return changing(queue, jobId, async (c) => {
    const { job, steps, path, transaction } = c
    const step = steps.find((s) => s.id === stepId)
    const twin = madeBefore(c, asked, (s) => s.batch !== null && s.operation === step?.operation && alike(s.params, params) && alike(s.inputs, step.inputs))
    // a step that is tried again is no run of several
    if (twin) return twin.batch === null ? [twin] : steps.filter((s) => s.batch === twin.batch)
    mustBeQuiet(c, 'running again')
    mustStandAt(c, asked.after)
    if (!step || step.operation === SET_ASIDE) throw new OakError('not-found', 'That step cannot be run again.', { remedy: 'Choose another.' })
    checkedParams(operation(step.operation), params)
    if (!step.chained) {
      const fresh = { state: 'queued', problem: null, evidence: null, progress: 0, phase: '', cancel: false, attempts: 0 } as const
      await step.update({ ...fresh, params, request: asked.request ?? step.request }, { transaction })
      c.wake()
      return [step]
    }
    const at = path.findIndex((s) => s.id === stepId)
    if (at < 0) throw new OakError('not-found', 'That step lies on another branch.', { remedy: 'Go to that branch first.' })
    const batch = randomUUID()
    const origin = job.head
    await job.update({ head: step.parent }, { transaction })
    const again: StepRow[] = []
    for (const s of path.slice(at)) {
      const { operation: name, inputs, slots, fileId, fileName, fileRole, recordedWith, setupId } = s
      const first = s.id === stepId
      // as it is computed today, which may not be how it was
      const version = versionOf(name) ?? s.version
      const row = { jobId, operation: name, version, inputs, slots, fileId, fileName, fileRole, recordedWith, setupId, batch, origin }
      again.push(await StepRow.create({ ...row, params: first ? params : s.params, ...(first ? askedOf(asked) : {}) }, { transaction }))
      c.wake()
    }
    return again
  })
}

export async function cancelStep(queue: Queue, jobId: string, stepId: string): Promise<void> {
  await changing(queue, jobId, async ({ steps, transaction }) => {
    const step = steps.find((s) => s.id === stepId)
    if (!step) throw new OakError('not-found', 'There is no such step.')
    const given = { state: 'cancelled', finishedAt: new Date() } as const
    await StepRow.update(given, { where: { id: stepId, state: 'queued' }, transaction })
    await StepRow.update({ cancel: true }, { where: { id: stepId, state: 'running' }, transaction })
    // steps that wait for this one in the same run have nothing to wait for any more
    if (step.batch) await StepRow.update(given, { where: { batch: step.batch, state: 'queued' }, transaction })
  })
  await queue.bus.cancel(stepId)
}

/** A failed or cancelled step that the person has read about, or a preview that is of no more use: it goes. */
export async function dismissStep(queue: Queue, jobId: string, stepId: string): Promise<void> {
  await changing(queue, jobId, ({ transaction }) =>
    StepRow.destroy({ where: { id: stepId, jobId, chained: false, state: ['failed', 'cancelled', 'done'] }, transaction }),
  )
}

export async function deleteJob(queue: Queue, jobId: string): Promise<void> {
  await changing(queue, jobId, async ({ job, steps, transaction }) => {
    if (steps.some(isOpen)) throw new OakError('busy', 'A step of this job is still running.', { remedy: 'Cancel it first.' })
    await job.destroy({ transaction })
  })
}
