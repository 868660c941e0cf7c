import { literal, Op, QueryTypes } from 'sequelize'
import { BASE, currentStage, stageStates, type JobSummary } from '@oak-gauge/contract'
import { pageOf } from '../api/serve.ts'
import { JobRow, StepRow } from '../db/models.ts'
import { headlineOf } from './headline.ts'
import { loadLedger, toStep, trayItems } from './state.ts'

/**
 * The cards of all jobs on the bench. A card is made from a job's whole ledger, and remembered as long as nothing of the job has changed: one query
 * tells for all jobs at once. In the database too, so that a server that was started anew need not read all ledgers first.
 */
export function benchCards(): (page: { limit: number; after?: string | undefined }) => Promise<{ items: JobSummary[]; next: string | null }> {
  const known = new Map<string, { print: string; card: JobSummary }>()
  return async (page) => {
    const all = await fingerprints()
    for (const id of known.keys()) if (!all.has(id)) known.delete(id)
    const { items, next } = pageOf(
      [...all.keys()].map((id) => ({ id })),
      page,
    )
    const prints = new Map(items.map(({ id }) => [id, all.get(id) ?? '']))
    // this answer's own: another one that began earlier may be slower, and remember what it read before a change
    const cards = new Map<string, JobSummary>()
    for (const [id, print] of prints) {
      const k = known.get(id)
      if (k?.print === print) cards.set(id, k.card)
    }
    for (const [id, card] of await stored([...prints].filter(([id]) => !cards.has(id)))) {
      cards.set(id, card)
      known.set(id, { print: prints.get(id) ?? '', card })
    }
    const work = [...prints].filter(([id]) => !cards.has(id)).values()
    const some = async () => {
      for (const [id, print] of work) {
        const card = await cardOf(id)
        if (!card) continue
        cards.set(id, card)
        known.set(id, { print, card })
        await store(id, print, card)
      }
    }
    await Promise.all(Array.from({ length: AT_ONCE }, some))
    return { items: [...prints.keys()].flatMap((id) => cards.get(id) ?? []), next }
  }
}
/** Ledgers that are read at a time: the pool has others to serve. */
const AT_ONCE = 3

/** Raised when cards are made otherwise: those of before are made anew. */
const CARDS = 3

async function stored(jobs: [string, string][]): Promise<Map<string, JobSummary>> {
  if (!jobs.length) return new Map()
  const rows = await JobRow.sequelize?.query<{ id: string; card: JobSummary }>(
    'select c.job_id as id, c.card from job_card c join unnest($1::uuid[], $2::text[]) as w (id, print) on w.id = c.job_id and w.print = c.print',
    { bind: [jobs.map(([id]) => id), jobs.map(([, print]) => print)], type: QueryTypes.SELECT },
  )
  return new Map(rows?.map((r) => [r.id, r.card]))
}

async function store(id: string, print: string, card: JobSummary): Promise<void> {
  await JobRow.sequelize?.query(
    `insert into job_card (job_id, print, card) select id, $2, $3 from job where id = $1 for key share
     on conflict (job_id) do update set print = excluded.print, card = excluded.card`,
    { bind: [id, print, JSON.stringify(card)] },
  )
}

/** What changes when anything changes that a card shows, by job, in the order of making. */
async function fingerprints(): Promise<Map<string, string>> {
  const rows = await JobRow.sequelize?.query<{ id: string; print: string }>(
    `select j.id, concat_ws(' ', ${CARDS}, j.head, j.updated_at, count(s.id), count(s.id) filter (where s.state in ('queued', 'running')), max(s.finished_at)) as print
     from job j left join step s on s.job_id = j.id group by j.id order by j.created_at, j.id`,
    { type: QueryTypes.SELECT },
  )
  return new Map(rows?.map((r) => [r.id, r.print]))
}

/** Null of a job that was deleted meanwhile. */
async function cardOf(id: string): Promise<JobSummary | null> {
  const l = await loadLedger(id).catch(async (e: unknown) => {
    if (await JobRow.count({ where: { id } })) throw e
    return null
  })
  if (!l) return null
  const { title, part, purpose, tolerance, surface, notes, scanner, demo, createdAt, updatedAt } = l.job
  const tray = trayItems(l)
  const path = l.path.map(toStep)
  const stage = currentStage(stageStates(path, tray, l.job))
  return {
    ...{ id, title, part, purpose, tolerance, surface, notes, scanner, demo },
    createdAt: createdAt.toISOString(),
    updatedAt: updatedAt.toISOString(),
    stage,
    headline: headlineOf(stage, path, tray),
    ...(await lastPicture(l.path)),
    passes: tray.filter((i) => i.role === 'pass').length,
    busy: l.steps.some((s) => s.state === 'queued' || s.state === 'running'),
  }
}

/** Where the picture of the newest step on the path lies that has one; that of the nominal where nothing was measured yet. */
async function lastPicture(path: StepRow[]): Promise<Pick<JobSummary, 'picture' | 'ofNominal'>> {
  const step = await StepRow.findOne({
    where: { id: path.map((s) => s.id), picture: { [Op.ne]: null } },
    order: [
      [literal("coalesce(file_role, '') = 'nominal'"), 'ASC'],
      ['seq', 'DESC'],
    ],
    attributes: ['id', 'jobId', 'fileRole'],
  })
  return { picture: step && `${BASE}/jobs/${step.jobId}/steps/${step.id}/picture`, ofNominal: step?.fileRole === 'nominal' }
}
