import { Transaction } from 'sequelize'
import type { JobState, Role, Step, TrayItem } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Evidence } from '@oak-gauge/core/operations/operation.ts'
import { named, q } from '@oak-gauge/core/operations/quantities.ts'
import { operation, OPERATIONS } from '@oak-gauge/core/operations/registry.ts'
import type { Ran } from '@oak-gauge/core/uncertainty/lineage.ts'
import { ItemRow, JobRow, SetupRow, SlotRow, StepRow } from '../db/models.ts'

/** A ledger step that only takes items off the tray; nothing is computed, nothing is deleted. */
export const SET_ASIDE = 'set-aside'

/** What a ledger says of a kind of step; setting aside is the ledger's own. */
export const aboutStep = (name: string): Pick<Step, 'title' | 'stage' | 'shows'> => {
  if (name === SET_ASIDE) return { title: 'Set aside', stage: 'Clean', shows: [] }
  const { title, stage, shows } = operation(name)
  return { title, stage, shows: shows ?? [] }
}

/** The version of an operation that this program has; undefined of one that it does not know. */
export const versionOf = (name: string): number | undefined => (name === SET_ASIDE ? 1 : OPERATIONS.find((o) => o.name === name)?.version)

/** Throws 'not-on-tray' when one of them is not there. */
export function setAsideEvidence({ tray }: Ledger, slots: string[]): Evidence {
  if (!slots.length || slots.some((s) => !tray.has(s))) throw new OakError('not-on-tray', 'That is not on the tray.', { remedy: 'Choose what to set aside.' })
  return { quantities: [q('set-aside', slots.map((s) => tray.get(s)?.name ?? '').join(', '))], warnings: [] }
}

export async function jobOr404(id: string, transaction?: Transaction): Promise<JobRow> {
  const job = await JobRow.findByPk(id, transaction ? { transaction } : {})
  if (!job) throw new OakError('not-found', 'There is no such job.', { where: id, remedy: 'Go back to the bench.' })
  return job
}

/** Steps from the first to `head`, in order. Throws when the ledger is broken. */
export function pathTo(steps: StepRow[], head: string | null): StepRow[] {
  const byId = new Map(steps.map((s) => [s.id, s]))
  const path: StepRow[] = []
  for (let id = head; id;) {
    const s = byId.get(id)
    if (!s) throw new OakError('ledger', 'The ledger names a step that is not there.', { where: id, remedy: 'Restore the database from a backup.' })
    if (path.length === steps.length)
      throw new OakError('ledger', 'A step of the ledger is its own ancestor.', { where: id, remedy: 'Restore the database from a backup.' })
    path.push(s)
    id = s.parent
  }
  return path.reverse()
}

/** What lies on the tray after a path of steps: the newest item of each slot, without what was set aside. */
export function trayAfter(path: StepRow[], items: ItemRow[]): Map<string, ItemRow> {
  const byStep = new Map<string, ItemRow[]>()
  for (const i of items) byStep.set(i.stepId, [...(byStep.get(i.stepId) ?? []), i])
  const tray = new Map<string, ItemRow>()
  for (const s of path) {
    if (s.operation === SET_ASIDE) for (const slot of s.inputs['items'] ?? []) tray.delete(slot)
    for (const i of (byStep.get(s.id) ?? []).sort((a, b) => a.place - b.place)) if (i.slotId) tray.set(i.slotId, i)
  }
  return tray
}

/** The step that stepping forward leads to: the next one on the way to the tip of the branch. */
export function forwardOf(steps: StepRow[], head: string | null, tip: string | null): string | null {
  const byId = new Map(steps.map((s) => [s.id, s]))
  for (let id = tip; id;) {
    const s = byId.get(id)
    if (!s || s.id === head) return null
    if (s.parent === head) return s.id
    id = s.parent
  }
  return null
}

export interface Ledger {
  job: JobRow
  steps: StepRow[]
  path: StepRow[]
  tray: Map<string, ItemRow>
  slots: Map<string, SlotRow>
}

/** All of one moment: a head of before with steps of after would send the next request behind the wrong step. */
export async function loadLedger(jobId: string, transaction?: Transaction): Promise<Ledger> {
  const { sequelize } = JobRow
  if (!transaction && sequelize) return sequelize.transaction({ isolationLevel: Transaction.ISOLATION_LEVELS.REPEATABLE_READ }, (t) => loadLedger(jobId, t))
  const within = transaction ? { transaction } : {}
  const job = await jobOr404(jobId, transaction)
  const [steps, slots] = await Promise.all([
    StepRow.findAll({ where: { jobId }, order: [['seq', 'ASC']], attributes: { exclude: ['picture'] }, ...within }),
    SlotRow.findAll({ where: { jobId }, ...within }),
  ])
  const path = pathTo(steps, job.head)
  const items = path.length ? await ItemRow.findAll({ where: { stepId: path.map((s) => s.id) }, ...within }) : []
  return { job, steps, path, tray: trayAfter(path, items), slots: new Map(slots.map((s) => [s.id, s])) }
}

/** A step as the rules of uncertainty look at it. */
export const asRan = (s: StepRow): Ran => ({ operation: s.operation, inputs: s.inputs, outputs: s.slots, evidence: s.evidence, recordedWith: s.recordedWith })

export function toStep(s: StepRow): Step {
  return {
    id: s.id,
    parent: s.parent,
    seq: s.seq,
    operation: s.operation,
    ...aboutStep(s.operation),
    params: s.params,
    inputs: s.inputs,
    outputs: s.slots,
    state: s.state,
    preview: s.preview,
    progress: s.progress,
    phase: s.phase,
    evidence: s.evidence && { ...s.evidence, quantities: s.evidence.quantities.map(named) },
    problem: s.problem,
    milliseconds: s.milliseconds,
    reused: s.reused,
    createdAt: s.createdAt.toISOString(),
    file: s.fileName,
    recordedWith: s.recordedWith ?? null,
  }
}

export function toTrayItem(i: ItemRow, role: Role, setup: string | null): TrayItem {
  const shown = i.display['xyz'] ?? i.display['vertices'] ?? i.display['values']
  return {
    id: i.id,
    slot: i.slotId ?? '',
    role,
    setup,
    name: i.name,
    kind: i.kind,
    count: i.meta.count,
    box: i.meta.box,
    pose: i.pose,
    step: i.stepId,
    on: i.onSlot,
    shown: shown ? (i.kind === 'field' ? shown.length : shown.length / 3) : 0,
    faces: i.meta.faces,
    spacing: i.meta.spacing ?? null,
    coloured: 'colours' in i.arrays,
  }
}

export function trayItems(l: Ledger): TrayItem[] {
  return [...l.tray.values()].map((i) => {
    const slot = l.slots.get(i.slotId ?? '')
    return toTrayItem(i, slot?.role ?? 'mesh', slot?.setupId ?? null)
  })
}

/** All that a browser shows of a job. */
export async function jobState(jobId: string): Promise<JobState> {
  const l = await loadLedger(jobId)
  const setups = await SetupRow.findAll({ where: { jobId }, order: [['place', 'ASC']] })
  const { id, title, part, purpose, tolerance, surface, notes, scanner, demo, head, tip, createdAt, updatedAt } = l.job
  return {
    job: { id, title, part, purpose, tolerance, surface, notes, scanner, demo, createdAt: createdAt.toISOString(), updatedAt: updatedAt.toISOString() },
    setups: setups.map((s) => ({ id: s.id, name: s.name, place: s.place })),
    head,
    forward: forwardOf(l.steps, head, tip),
    tray: trayItems(l),
    steps: l.steps.map(toStep),
  }
}
