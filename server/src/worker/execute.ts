import { createHash, randomUUID } from 'node:crypto'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { checkedParams, operation } from '@oak-gauge/core/operations/registry.ts'
import type { Evidence, Item, Operation } from '@oak-gauge/core/operations/operation.ts'
import { withEarlierFigures } from '@oak-gauge/core/operations/rules.ts'
import type { Role } from '@oak-gauge/contract'
import { storeArray } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import { ItemRow, JobRow, SlotRow, StepRow, type ArrayRef } from '../db/models.ts'
import { asRan, loadLedger, SET_ASIDE, setAsideEvidence } from '../ledger/state.ts'
import type { ArrayCache } from './cache.ts'
import type { MadeItem, RunRequest } from './messages.ts'
import { packValue, unpackItem, type Arrays } from './pack.ts'

/** The step was taken from whoever computed it, or the job does not stand any more where it was computed: what came out must not be kept. */
export class NotOurs extends Error {}

/** What an executor needs of the runner thread. */
export type Run = (
  request: Omit<RunRequest, 'id' | 'cancel'>,
) => Promise<{ made: MadeItem[]; evidence: Evidence; picture: string | null; milliseconds: number }>

/** Runs one step of a job whose lock is held: resolves its inputs on today's tray, computes or looks up, stores all in one transaction. */
export async function executeStep(db: Database, cache: ArrayCache, step: StepRow, run: Run): Promise<void> {
  const ledger = await loadLedger(step.jobId)
  if (step.operation === SET_ASIDE) {
    // one of several that are run once more
    const outcome = { evidence: setAsideEvidence(ledger, step.inputs['items'] ?? []), milliseconds: 0, picture: null, reused: false }
    return commit(db, step, { name: SET_ASIDE, outputs: {} }, {}, null, [], outcome, ledger.job.head)
  }
  const op = operation(step.operation)
  const params = checkedParams(op, withEarlierFigures(op.name, step.params, step.inputs, ledger.path.map(asRan)))
  const rows: Record<string, ItemRow[]> = {}
  for (const [port, slots] of Object.entries(step.inputs))
    rows[port] = slots.map((slot) => {
      const row = ledger.tray.get(slot)
      if (!row)
        throw new OakError('not-on-tray', `What “${op.title}” needs is not on the tray at this place of the ledger.`, {
          where: `${op.name}, ${port}`,
          remedy: 'Choose its inputs again.',
        })
      return row
    })
  const setupOf = (port: string, row: ItemRow) => (op.inputs[port]?.setups ? (ledger.slots.get(row.slotId ?? '')?.setupId ?? null) : null)
  const key = keyOf(op, params, rows, setupOf, step.fileId && [step.fileId, step.fileName])
  const earlier = await StepRow.findOne({ where: { key, state: 'done', preview: step.preview }, order: [['seq', 'ASC']] })
  if (earlier) {
    const made = await ItemRow.findAll({ where: { stepId: earlier.id } })
    await commit(
      db,
      step,
      op,
      rows,
      key,
      made.map((m) => ({ ...plain(m), slotId: null })),
      { evidence: earlier.evidence, milliseconds: 0, picture: earlier.picture, reused: true },
      ledger.job.head,
    )
    return
  }
  const inputs: Record<string, Item[]> = {}
  const shown: RunRequest['shown'] = {}
  for (const [port, list] of Object.entries(rows)) {
    inputs[port] = []
    shown[port] = []
    for (const row of list) {
      const setup = setupOf(port, row)
      inputs[port].push({ ...unpackItem(row, await cache.load(row.arrays)), ...(setup ? { setup } : {}) })
      shown[port].push(row.display['map'] ? ((await cache.load({ map: row.display['map'] }))['map'] as Uint32Array) : null)
    }
  }
  const file = step.fileId ? { id: step.fileId, name: step.fileName ?? 'file' } : null
  const wantsPicture = !step.preview && op.picture === true
  const result = await run({ operation: op.name, params, inputs, file, shown, preview: step.preview, picture: wantsPicture })
  const made = result.made.map((m) => ({ ...m, before: m.display, ...packValue(m.item.data) }))
  await db.sequelize.transaction(async (transaction) => {
    const stored: Partial<ItemRow>[] = []
    for (const m of made) {
      const replaced = op.outputs[m.port]?.replaces
      const source = replaced ? rows[replaced]?.[m.place] : undefined
      // a preview keeps only what the screen shows of it: the step itself will store the rest
      const arrays = step.preview ? {} : await storeAll(db, cache, m.arrays, transaction)
      const display = Object.keys(m.display).length ? await storeAll(db, cache, m.display, transaction) : (source?.display ?? {})
      stored.push({ port: m.port, place: m.place, name: m.item.name, kind: m.item.data.kind, arrays, meta: m.meta, pose: [...m.item.pose], display })
    }
    const outcome = { evidence: result.evidence, milliseconds: result.milliseconds, picture: result.picture, reused: false }
    await commitIn(transaction, step, op, rows, key, stored, outcome, ledger.job.head)
  })
}

const plain = (m: ItemRow): Partial<ItemRow> => ({
  port: m.port,
  place: m.place,
  name: m.name,
  kind: m.kind,
  arrays: m.arrays,
  meta: m.meta,
  pose: m.pose,
  display: m.display,
})

async function storeAll(db: Database, cache: ArrayCache, arrays: Arrays, transaction: Parameters<typeof storeArray>[2]): Promise<Record<string, ArrayRef>> {
  const out: Record<string, ArrayRef> = {}
  for (const [name, a] of Object.entries(arrays)) {
    out[name] = await storeArray(db.sequelize, a, transaction)
    cache.remember(out[name], a)
  }
  return out
}

/** What committing wants of an operation. */
type Made = Pick<Operation, 'name' | 'outputs'>

interface Outcome {
  evidence: Evidence | null
  milliseconds: number
  picture: string | null
  reused: boolean
}

function commit(
  db: Database,
  step: StepRow,
  op: Made,
  rows: Record<string, ItemRow[]>,
  key: string | null,
  items: Partial<ItemRow>[],
  outcome: Outcome,
  head: string | null,
): Promise<void> {
  return db.sequelize.transaction((transaction) => commitIn(transaction, step, op, rows, key, items, outcome, head))
}

/** Outputs, their slots, the step and the job's pointer appear together or not at all. head: where the job stood when it was computed. */
async function commitIn(
  transaction: Parameters<typeof storeArray>[2],
  step: StepRow,
  op: Made,
  rows: Record<string, ItemRow[]>,
  key: string | null,
  items: Partial<ItemRow>[],
  outcome: Outcome,
  head: string | null,
): Promise<void> {
  const job = await JobRow.findByPk(step.jobId, { transaction, lock: true })
  if (!job) throw new OakError('not-found', 'The job was deleted meanwhile.')
  const mine = await StepRow.count({ where: { id: step.id, state: 'running', attempt: step.attempt }, transaction })
  if (!mine || (!step.preview && job.head !== head)) throw new NotOurs('the step was taken away, or the job has moved')
  const slots: Record<string, string[]> = {}
  if (!step.preview)
    for (const item of items) {
      const port = item.port as string
      const place = item.place as number
      const replaced = op.outputs[port]?.replaces
      let slot = replaced ? rows[replaced]?.[place]?.slotId : step.slots[port]?.[place]
      if (!slot) slot = randomUUID()
      if (!(await SlotRow.findByPk(slot, { transaction })))
        await SlotRow.create({ id: slot, jobId: step.jobId, role: roleOf(op, step, item), setupId: step.setupId }, { transaction })
      ;(slots[port] ??= [])[place] = slot
      item.slotId = slot
    }
  for (const item of items) {
    const on = op.outputs[item.port as string]?.on
    const place = item.place as number
    item.onSlot = on ? (slots[on]?.[place] ?? rows[on]?.[place]?.slotId ?? null) : null
  }
  await ItemRow.bulkCreate(
    items.map((i) => ({ ...(i as ItemRow), stepId: step.id, jobId: step.jobId })),
    { transaction },
  )
  await step.update(
    {
      state: 'done',
      key,
      slots,
      evidence: outcome.evidence,
      milliseconds: outcome.milliseconds,
      reused: outcome.reused,
      picture: outcome.picture,
      progress: 1,
      phase: '',
      finishedAt: new Date(),
      ...(step.preview ? {} : { chained: true, parent: job.head }),
    },
    { transaction },
  )
  if (!step.preview) await job.update({ head: step.id, tip: step.id }, { transaction })
}

function roleOf(op: Made, step: StepRow, item: Partial<ItemRow>): Role {
  if (op.name === 'import') {
    if (step.fileRole === 'nominal' && item.kind === 'mesh') return 'nominal'
    if (item.kind === 'points') return 'pass'
    return /\.(step|stp)$/i.test(step.fileName ?? '') ? 'nominal' : 'mesh'
  }
  if (item.kind === 'markers') return op.name === 'plan-markers' ? 'marker-plan' : 'marker-map'
  if (op.name === 'plan-markers') return 'shape'
  if (item.kind === 'field') return op.name === 'deviation' ? 'deviation' : 'map'
  if (item.kind === 'points') return op.name === 'adjust' ? 'map' : 'pass'
  return 'mesh'
}

/** The same operation on the same numbers with the same settings: found again, not computed again. */
function keyOf(
  op: Operation,
  params: Record<string, unknown>,
  rows: Record<string, ItemRow[]>,
  setupOf: (port: string, row: ItemRow) => string | null,
  file: (string | null)[] | null,
): string {
  const inputs = Object.entries(rows)
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([port, list]) => [
      port,
      list.map((r) => [
        r.name,
        r.pose,
        // which passes were recorded together, by whatever name
        ...(op.inputs[port]?.setups ? [list.findIndex((x) => setupOf(port, x) === setupOf(port, r))] : []),
        Object.entries(r.arrays)
          .sort(([a], [b]) => a.localeCompare(b))
          .map(([n, ref]) => [n, ref.sha]),
      ]),
    ])
  return createHash('sha256')
    .update(JSON.stringify([op.name, op.version, sorted(params), inputs, file]))
    .digest('hex')
}

function sorted(v: unknown): unknown {
  if (Array.isArray(v)) return v.map(sorted)
  if (v && typeof v === 'object')
    return Object.fromEntries(
      Object.entries(v)
        .sort(([a], [b]) => a.localeCompare(b))
        .map(([k, x]) => [k, sorted(x)]),
    )
  return v
}
