import { spawn } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { request as httpRequest, type ClientRequest } from 'node:http'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import { endOf, type JobState, type Step } from '@oak-gauge/contract'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { startCluster } from '@oak-gauge/server/postgres.ts'
import { startProgram } from './program.ts'
import { wavySheet } from './sheet.ts'

type Add = (what: string, got: string, must: string, aim: string) => void
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
const ms = (v: number) => `${v.toFixed(0)} ms`

/** The server under load, as people and programs use it: real processes, a real database. */
export async function benchServer(add: Add): Promise<void> {
  const root = fileURLToPath(new URL('..', import.meta.url))
  const cluster = await startCluster({ root, throwaway: true })
  const program = await startProgram({ DATABASE_URL: cluster.url, OAK_DEMO: 'none' })
  const { port } = program
  const url = `${program.origin}/api/v1`
  const sql = new pg.Client({ connectionString: cluster.url })
  try {
    for (let i = 0; i < 600; i++) {
      if ((await fetch(`${url}/health`).catch(() => null))?.ok) break
      await pause(100)
    }
    await sql.connect()
    const use = client(url)
    await racing(use, add)
    await benchPage(use, sql, program.process.pid as number, add)
    await heavy(use, add)
    await stalled(use, port, sql, add)
  } finally {
    await sql.end().catch(() => undefined)
    await program.end()
    cluster.stop()
  }
}

function client(url: string) {
  const call = async (method: string, path: string, body?: unknown) => {
    const r = await fetch(`${url}${path}`, {
      method,
      ...(body === undefined ? {} : { headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) }),
    })
    return { status: r.status, body: (await r.json()) as unknown }
  }
  const state = async (job: string) => (await call('GET', `/jobs/${job}`)).body as JobState
  const quiet = async (job: string) => {
    for (;;) {
      const s = await state(job)
      if (!s.steps.some((x) => x.state === 'queued' || x.state === 'running')) return s
      await pause(10)
    }
  }
  return {
    url,
    call,
    state,
    quiet,
    newJob: async (title: string) => ((await call('POST', '/jobs', { title })).body as JobState).job.id,
    bring: async (job: string, name: string, body: BodyInit) => {
      const r = await fetch(`${url}/jobs/${job}/files?name=${name}&unit=mm`, { method: 'PUT', body })
      if (!r.ok) throw new Error(await r.text())
      return quiet(job)
    },
  }
}
type Client = ReturnType<typeof client>

/** A grid of points on a table and on a block, as point text. */
function tableAndBlock(): string {
  const lines: string[] = []
  for (let x = -40; x <= 40; x++) for (let y = -40; y <= 40; y++) lines.push(`${x} ${y} ${Math.max(Math.abs(x), Math.abs(y)) <= 15 ? 20 : 0}`)
  return lines.join('\n')
}
const thin = (slot: string, size: number) => ({ operation: 'thin', inputs: { passes: [slot] }, params: { size } })

/** Two clients that saw the same ask for different things at the same moment. */
async function racing({ call, quiet, newJob, bring }: Client, add: Add): Promise<void> {
  const PAIRS = 1000
  const began = performance.now()
  const random = seeded(7)
  let [lost, doubled, failed, job, slot] = [0, 0, 0, '', '']
  for (let k = 0; k < PAIRS; k++) {
    if (k % 50 === 0) {
      job = await newJob(`Race ${k}`)
      slot = (await bring(job, 'pass.xyz', tableAndBlock())).tray[0].slot
    }
    const before = await quiet(job)
    const after = endOf(before.head, before.steps)
    const last = before.steps.find((s) => s.id === before.head) as Step
    const ask = (who: number) => {
      const what = random.next()
      const size = 1 + 0.001 * k + 0.0003 * who
      if (what < 0.2) return call('POST', `/jobs/${job}/head`, { step: last.parent ?? last.id, after })
      if (what < 0.4 && last.operation === 'thin')
        return call('POST', `/jobs/${job}/steps/${last.id}/rerun`, { params: { size }, after, request: randomUUID() })
      return call('POST', `/jobs/${job}/steps`, { ...thin(slot, size), after, request: randomUUID() })
    }
    const answers = await Promise.all([ask(1), ask(2)])
    const now = await quiet(job)
    const asked = answers.flatMap((a) => (a.status === 202 ? [a.body].flat() : [])) as Step[]
    const done = now.steps.filter((s) => !before.steps.some((b) => b.id === s.id) && s.state === 'done')
    for (const a of answers) if (![200, 202, 409].includes(a.status)) failed++
    for (const a of asked) if (!done.some((d) => d.id === a.id)) lost++
    doubled += Math.max(0, done.length - 1)
  }
  add(
    `two clients racing ${PAIRS} pairs of changes: lost / doubled / answered otherwise than made or refused`,
    `${lost} / ${doubled} / ${failed} (${((performance.now() - began) / 1000).toFixed(0)} s)`,
    '0 / 0 / 0',
    '',
  )
}

async function benchPage({ url, call, quiet, newJob, bring }: Client, sql: pg.Client, program: number, add: Add): Promise<void> {
  const job = await newJob('Long job')
  const [{ slot }] = (await bring(job, 'pass.xyz', tableAndBlock())).tray
  for (let k = 1; k < 100; k++) await call('POST', `/jobs/${job}/steps`, thin(slot, 1 + 0.01 * k))
  await quiet(job)
  // the same job under other numbers: as if 200 had been worked through
  for (let k = 1; k < 200; k++) {
    const other = (v: string) => `md5(${v}::text || '${k}')::uuid`
    await sql.query(`
insert into job (id, title, part, purpose, surface, notes, head, tip) select ${other('id')}, title || ' ${k}', part, purpose, surface, notes, ${other('head')}, ${other('tip')} from job where id = '${job}';
insert into setup (id, job_id, name, place) select ${other('id')}, ${other('job_id')}, name, place from setup where job_id = '${job}';
insert into slot (id, job_id, role, setup_id) select ${other('id')}, ${other('job_id')}, role, ${other('setup_id')} from slot where job_id = '${job}';
insert into step (id, job_id, parent, operation, version, params, inputs, slots, state, chained, evidence, milliseconds, created_at, started_at, finished_at)
  select ${other('id')}, ${other('job_id')}, ${other('parent')}, operation, version, params, replace(inputs::text, '${slot}', ${other(`'${slot}'`)}::text)::jsonb,
    replace(slots::text, '${slot}', ${other(`'${slot}'`)}::text)::jsonb, state, chained, evidence, milliseconds, created_at, started_at, finished_at
  from step where job_id = '${job}' order by seq;
insert into item (id, step_id, job_id, slot_id, port, place, name, kind, arrays, meta, pose, display)
  select ${other('id')}, ${other('step_id')}, ${other('job_id')}, ${other('slot_id')}, port, place, name, kind, arrays, meta, pose, display from item where job_id = '${job}';`)
  }
  await sql.query('analyze')
  const timed = async () => {
    const t = performance.now()
    const r = await fetch(`${url}/jobs?limit=500`)
    const { items } = (await r.json()) as { items: { passes: number; headline: string }[] }
    if (items.length < 200 || items.some((j) => !j.headline)) throw new Error('the bench is not whole')
    return performance.now() - t
  }
  const first = await timed()
  const again: number[] = []
  for (let k = 0; k < 9; k++) again.push(await timed())
  await call('POST', `/jobs/${job}/steps`, thin(slot, 3))
  await quiet(job)
  const changed = await timed()
  again.sort((a, b) => a - b)
  // the web server is killed; another one begins
  process.kill(childOf(program, 'http.js'), 'SIGKILL')
  for (let k = 0; k < 600 && !(await fetch(`${url}/health`).catch(() => null))?.ok; k++) await pause(20)
  const anew = await timed()
  add(
    'bench of 200 jobs with 100 steps each: after one changed / median / from a server just started / cards never made before',
    `${ms(changed)} / ${ms(again[4])} / ${ms(anew)} / ${ms(first)}`,
    '150 ms',
    '50 ms',
  )
}

/**
 * Its health is asked for again and again while something goes on, by a process of its own, so that what is measured is not this one's own
 * work. longest: of the answers; stall: for how long the server's event loop was held up at once, by its own word; ms.
 */
async function longestAnswer(url: string, during: () => Promise<unknown>): Promise<{ longest: number; most: number; count: number; stall: number }> {
  const script = `
    const all = []; let going = true; process.on('message', () => (going = false));
    (async () => {
      let body
      while (going) {
        const t = performance.now()
        body = await (await fetch('${url}/health')).json()
        all.push(performance.now() - t)
        await new Promise((r) => setTimeout(r, 10))
      }
      process.send({ all, stall: body.stalls.longest }, () => process.exit(0))
    })()`
  const asking = spawn(process.execPath, ['-e', script], { stdio: ['ignore', 'inherit', 'inherit', 'ipc'] })
  await pause(300)
  await during()
  const told = new Promise<{ all: number[]; stall: number }>((resolve) => asking.once('message', (m) => resolve(m as { all: number[]; stall: number })))
  asking.send('enough')
  const { all, stall } = await told
  all.sort((x, y) => x - y)
  return { longest: all[all.length - 1], most: all[Math.floor(0.99 * all.length)], count: all.length, stall }
}

async function stalled({ url, state, newJob, bring }: Client, port: number, sql: pg.Client, add: Add): Promise<void> {
  const job = await newJob('Stalled')
  const lines = Array.from({ length: 400_000 }, (_, i) => `${i % 700} ${Math.floor(i / 700)} ${(i * 7) % 13}`)
  await bring(job, 'pass.xyz', lines.join('\n'))
  const [pass] = (await state(job)).tray
  const open: ClientRequest[] = []
  let reading = 0
  for (let k = 0; k < 100; k++) {
    const up = httpRequest({ port, host: '127.0.0.1', path: `/api/v1/jobs/${job}/files?name=late${k}.xyz`, method: 'PUT', headers: { 'content-length': 9e6 } })
    up.on('error', () => undefined)
    up.write(Buffer.alloc(5e6, '1 2 3\n'))
    const down = httpRequest(
      { port, host: '127.0.0.1', path: k % 2 ? `/api/v1/items/${pass.id}/display?whole=1` : `/api/v1/items/${pass.id}/file?format=xyz` },
      (res) => {
        reading++
        res.pause()
      },
    )
    down.on('error', () => undefined)
    down.end()
    open.push(up, down)
  }
  while (reading < 100) await pause(20)
  // what came of the uploads is stored: nothing goes on any more
  const arrived = async () =>
    (await sql.query<{ n: number }>("select count(*)::int as n from blob_chunk c join blob b on b.id = c.blob_id where b.name like 'late%'")).rows[0].n
  while ((await arrived()) < 100) await pause(50)
  const { longest, count } = await longestAnswer(url, () => pause(5000))
  for (const r of open) r.destroy()
  add('health beside 100 stalled uploads and 100 stalled downloads, longest of all answers', `${ms(longest)} (of ${count})`, '250 ms', '50 ms')
}

function childOf(parent: number, name: string): number {
  const read = (path: string) => (existsSync(path) ? readFileSync(path, 'utf8') : '')
  const found = readdirSync('/proc').find(
    (p) => read(`/proc/${p}/cmdline`).includes(name) && read(`/proc/${p}/stat`).split(') ')[1]?.split(' ')[1] === String(parent),
  )
  if (!found) throw new Error(`${name} does not run`)
  return Number(found)
}

/** A large import, and the export of a large mesh that was made from it, at once. */
async function heavy({ url, quiet, newJob, bring }: Client, add: Add): Promise<void> {
  const job = await newJob('Heavy')
  const made = await bring(job, 'sheet.stl', wavySheet(708))
  const mesh = made.tray[0]
  const random = seeded(3)
  const line = () => `${(300 * random.next()).toFixed(4)} ${(200 * random.next()).toFixed(4)} ${(80 * random.next()).toFixed(4)}\n`
  const block = Buffer.from(Array.from({ length: 40_000 }, line).join(''))
  const text = Buffer.concat(Array.from({ length: Math.ceil(300e6 / block.length) }, () => block))
  let written = 0
  const { longest, most, count, stall } = await longestAnswer(url, async () => {
    const t = performance.now()
    const export3mf = (async () => {
      const r = await fetch(`${url}/items/${mesh.id}/file?format=3mf`)
      if (!r.ok) throw new Error(await r.text())
      await r.arrayBuffer()
      written = (performance.now() - t) / 1000
    })()
    await fetch(`${url}/jobs/${job}/files?name=large.xyz&unit=mm`, { method: 'PUT', body: text })
    await export3mf
    await quiet(job)
  })
  add(
    `health beside a ${(text.length / 1e6).toFixed(0)} MB import and a 3MF export of 1.0 M triangles (${written.toFixed(1)} s): event loop held up at once / longest answer / 99 %`,
    `${ms(stall)} / ${ms(longest)} / ${ms(most)} (of ${count})`,
    '100 ms',
    '30 ms',
  )
}
