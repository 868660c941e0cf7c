import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Step } from '@oak-gauge/contract'
import { spawn } from 'node:child_process'
import pg from 'pg'
import { fileURLToPath } from 'node:url'
import { Readable } from 'node:stream'
import { append, beginFile, isSwept, loadArray, storeArray, sweepBlobs } from '../src/blobs.ts'
import { askForThisVersion } from '../src/ledger/versions.ts'
import { cubePly, startAll, tableAndBlock, until, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

const thin = (slot: string, size: number) => ({ operation: 'thin', inputs: { passes: [slot] }, params: { size } })
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))

describe('two workers on one database', () => {
  test('steps of one job run in their order, each on what the one before made', async () => {
    const second = await all.anotherWorker()
    try {
      const job = (await all.newJob()).job.id
      await all.bring(job, 'pass.xyz', tableAndBlock())
      const [pass] = (await all.state(job)).tray
      const sizes = [1.5, 2.5, 4, 7, 12]
      const queued = await Promise.all(sizes.map((s) => all.call('POST', `/jobs/${job}/steps`, thin(pass.slot, s))))
      const done: Step[] = []
      for (const q of queued) done.push(await all.finished(job, q.body.id))
      expect(done.map((s) => s.state)).toEqual(sizes.map(() => 'done'))
      const path = (await all.state(job)).steps
      // one chain: each is the parent of the next, nothing forked
      const order = done.sort((a, b) => a.seq - b.seq)
      order.forEach((s, i) => expect(s.parent).toBe(i ? order[i - 1].id : path[0].id))
      const left = order.map((s) => Number(s.evidence?.quantities[0].value))
      expect(left).toEqual([...left].sort((a, b) => b - a))
    } finally {
      second.kill('SIGKILL')
    }
  })
  test('jobs do not wait for each other, and each gets its own result', async () => {
    const second = await all.anotherWorker()
    try {
      const jobs = await Promise.all(
        [20, 24, 28, 32].map(async (side) => {
          const job = (await all.newJob(`Cube ${side}`)).job.id
          await all.bring(job, 'cube.ply', cubePly(side))
          const [mesh] = (await all.state(job)).tray
          return { job, side, slot: mesh.slot }
        }),
      )
      const steps = await Promise.all(jobs.map((j) => all.step(j.job, { operation: 'facts', inputs: { mesh: [j.slot] } })))
      steps.forEach((s, i) => expect(s.evidence?.quantities.find((q) => q.id === 'volume')?.value).toBeCloseTo(jobs[i].side ** 3, 2))
    } finally {
      second.kill('SIGKILL')
    }
  })
})

describe('a step that kills its worker', () => {
  test('is given up after three attempts with a clear word, and the job goes on', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(25))
    const [mesh] = (await all.state(job)).tray
    const r = await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh.slot] }, params: { count: 20_000_000 } })
    for (let attempt = 0; attempt < 3; attempt++) {
      for (let i = 0; i < 1500; i++) {
        const { rows } = await all.db.pool.query('select state, attempts from step where id = $1', [r.body.id])
        if (rows[0].state === 'running' && rows[0].attempts === attempt) break
        await pause(20)
      }
      all.worker().kill('SIGKILL')
      await pause(100)
      await all.startWorker()
    }
    const step = await all.finished(job, r.body.id)
    expect(step.state).toBe('failed')
    expect(step.problem?.remedy).not.toBe('')
    expect((await all.state(job)).tray).toHaveLength(1)
    expect((await all.step(job, { operation: 'facts', inputs: { mesh: [mesh.slot] } })).state).toBe('done')
  }, 240_000)
})

describe('a server that is killed while a step computes', () => {
  test('takes its worker along, and the step is done by the next one', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(26))
    const [mesh] = (await all.state(job)).tray
    all.worker().kill('SIGKILL')
    const root = fileURLToPath(new URL('../..', import.meta.url))
    const server = spawn(
      process.execPath,
      [
        '-e',
        `require('node:child_process').fork(process.argv[1], { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] }).on('message', function () { console.log(this.pid) })`,
        `${root}.build/worker.js`,
      ],
      { env: { ...process.env, DATABASE_URL: all.db.url, OAK_LOG: 'silent', NODE_OPTIONS: '' }, stdio: ['ignore', 'pipe', 'inherit'] },
    )
    const worker = Number(await new Promise((resolve) => server.stdout.once('data', resolve)))
    const step = (await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh.slot] }, params: { count: 6_000_000 } }))
      .body as Step
    const at = async () => (await all.state(job)).steps.find((s) => s.id === step.id)
    while ((await at())?.state !== 'running') await pause(20)
    server.kill('SIGKILL')
    const there = () => {
      try {
        return process.kill(worker, 0)
      } catch {
        return false
      }
    }
    const killed = Date.now()
    while (there() && Date.now() - killed < 20_000) await pause(50)
    expect(there()).toBe(false)
    await all.startWorker()
    const ended = await all.finished(job, step.id)
    expect([ended.state, ended.problem]).toEqual(['done', null])
  }, 120_000)
})

describe('a database that drops all connections', () => {
  test.each([0, 20, 60, 150, 400, 700, 1500, 2300, 3000])(
    'ends neither server nor worker, and what was asked for is done (%p ms after it was)',
    async (wait) => {
      const job = (await all.newJob()).job.id
      await all.bring(job, 'cube.ply', cubePly(28 + wait / 1000))
      const [mesh] = (await all.state(job)).tray
      const worker = all.worker().pid
      const step = (
        await all.call('POST', `/jobs/${job}/steps`, {
          operation: 'sample',
          inputs: { mesh: [mesh.slot] },
          params: { count: wait < 600 ? 400_000 : 3_000_000 },
        })
      ).body as Step
      await pause(wait)
      const own = new pg.Client({ connectionString: all.db.url })
      await own.connect()
      const cut = await own.query('select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and backend_type = $1', [
        'client backend',
      ])
      expect(cut.rowCount).toBeGreaterThan(4)
      await own.end()
      const answers: number[] = []
      for (let i = 0; i < 40 && answers.at(-1) !== 200; i++) {
        answers.push((await all.call('GET', `/jobs/${job}`)).status)
        await pause(100)
      }
      expect(answers.at(-1)).toBe(200)
      const ended = await all.finished(job, step.id)
      expect([ended.state, ended.problem, all.worker().pid, all.worker().exitCode]).toEqual(['done', null, worker, null])
      expect((await all.state(job)).tray).toHaveLength(2)
    },
    30_000,
  )
})

describe('a step whose message was lost on the way', () => {
  test('is run all the same, and those of other jobs do not wait for it', async () => {
    const job = (await all.newJob('Unheard')).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const [pass] = (await all.state(job)).tray
    // as if the line had broken between the queue's giving it out and the worker's hearing of it
    await all.db.pool.query(`
      create function unheard() returns trigger language plpgsql as $$ begin
        if new.data->>'job' = '${job}' then return null; end if; return new; end $$`)
    await all.db.pool.query('create trigger unheard before insert on pgboss.job for each row execute function unheard()')
    const asked = await all.call('POST', `/jobs/${job}/steps`, thin(pass.slot, 2.2))
    // dropping it would lock the queue's tables against the program, in another order than it does
    await all.db.pool.query('create or replace function unheard() returns trigger language plpgsql as $$ begin return new; end $$')
    const other = (await all.newJob('Heard')).job.id
    await all.bring(other, 'cube.ply', cubePly(13))
    expect((await all.finished(job, asked.body.id)).state).toBe('done')
  }, 30_000)
})

describe('waiting steps', () => {
  test('a waiting step is cancelled before it began; what waits behind it in a repetition goes with it', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const [pass] = (await all.state(job)).tray
    const first = await all.step(job, thin(pass.slot, 1.7))
    await all.step(job, thin(pass.slot, 3.3))
    const before = await all.state(job)
    all.worker().kill('SIGKILL')
    const again = (await all.call('POST', `/jobs/${job}/steps/${first.id}/rerun`, { params: { size: 1.9 } })).body as Step[]
    expect(again).toHaveLength(2)
    const busy = await all.call('POST', `/jobs/${job}/head`, { step: null })
    expect([busy.status, busy.body.code]).toEqual([409, 'busy'])
    await all.call('POST', `/jobs/${job}/steps/${again[0].id}/cancel`)
    for (const s of again) expect((await all.finished(job, s.id)).state).toBe('cancelled')
    await all.startWorker()
    const back = (await all.call('POST', `/jobs/${job}/head`, { step: before.head })).body
    expect(back.tray[0].count).toBe(before.tray[0].count)
  })
  test('what nobody speaks of any more is swept an hour later, and nothing else', async () => {
    const count = async () => Number((await all.db.pool.query('select count(*) from blob')).rows[0].count)
    const job = (await all.newJob()).job.id
    await all.bring(job, 'gone.xyz', `${tableAndBlock()}\n1 2 99\n`)
    const kept = (await all.newJob()).job.id
    await all.bring(kept, 'kept.xyz', `${tableAndBlock()}\n1 2 77\n`)
    const all1 = await count()
    await all.call('DELETE', `/jobs/${job}`)
    expect(await sweepBlobs(all.db.pool)).toBe(0)
    await all.db.pool.query("update blob set touched_at = now() - interval '2 hours'")
    expect(await sweepBlobs(all.db.pool)).toBeGreaterThan(0)
    expect(await count()).toBeLessThan(all1)
    const [pass] = (await all.state(kept)).tray
    expect((await fetch(`${all.url}/api/v1/items/${pass.id}/display`)).status).toBe(200)
    expect((await all.step(kept, thin(pass.slot, 5))).state).toBe('done')
  })
})

describe('bytes that somebody speaks of', () => {
  const age = (what: string) => all.db.pool.query(`update blob set touched_at = now() - interval '${what}'`)
  const numbers = (seed: number) => Float32Array.from({ length: 300 }, (_, i) => i * seed)
  const there = async (sha: string) => (await all.db.pool.query('select 1 from blob where sha256 = $1', [sha])).rowCount
  const inTransaction = () => all.db.sequelize.transaction()

  test('stay when somebody takes them up while they are swept, and whoever comes later stores them anew', async () => {
    const a = numbers(0.5)
    const { sha } = await all.db.sequelize.transaction((t) => storeArray(all.db.sequelize, a, t))
    await age('2 hours')
    const taking = await inTransaction()
    await storeArray(all.db.sequelize, a, taking)
    await sweepBlobs(all.db.pool)
    expect(await there(sha)).toBe(1)
    await taking.rollback()
    // the other way round: it is being swept, and whoever wants it waits until it is gone
    const sweeper = await all.db.pool.connect()
    await sweeper.query('begin')
    await sweeper.query('delete from blob where sha256 = $1', [sha])
    const late = await inTransaction()
    const stored = storeArray(all.db.sequelize, a, late)
    const first = await Promise.race([stored.then(() => 'stored'), pause(300).then(() => 'waits')])
    expect(first).toBe('waits')
    await sweeper.query('commit')
    sweeper.release()
    expect((await stored).sha).toBe(sha)
    await late.commit()
    expect(await loadArray(all.db.pool, { sha, type: 'f32', length: 300 })).toEqual(a)
  })
  test('cannot be deleted by anybody, and an item that speaks of others is refused', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'held.ply', cubePly(31))
    const { rows } = await all.db.pool.query('select blob_id, i.id from item i join item_blob b on b.item_id = i.id where i.job_id = $1', [job])
    expect(rows.length).toBeGreaterThan(1)
    await expect(all.db.pool.query('delete from blob where id = $1', [rows[0].blob_id])).rejects.toMatchObject({ code: '23503' })
    const lie = all.db.pool.query(`update item set arrays = '{"positions":{"sha":"no such thing"}}' where id = $1`, [rows[0].id])
    expect(isSwept(await lie.catch((e: unknown) => e))).toBe(true)
  })
  test('an upload that is on its way for hours stays; one that nobody went on with for a day goes', async () => {
    const id = await beginFile(all.db.pool, 'slow.xyz')
    await age('20 hours')
    await sweepBlobs(all.db.pool)
    const left = async () => (await all.db.pool.query('select 1 from blob where id = $1', [id])).rowCount
    expect(await left()).toBe(1)
    await age('25 hours')
    // its next part comes just in time
    await append(all.db.pool, id, Readable.from([Buffer.from('1 2 3')]), () => undefined)
    await sweepBlobs(all.db.pool)
    expect(await left()).toBe(1)
    await age('25 hours')
    await sweepBlobs(all.db.pool)
    expect(await left()).toBe(0)
  })
  test('what is found in the ledger and swept away at the same moment is computed again', async () => {
    const make = async (title: string) => {
      const job = (await all.newJob(title)).job.id
      await all.bring(job, 'same.xyz', tableAndBlock())
      return { job, slot: (await all.state(job)).tray[0].slot }
    }
    const a = await make('First')
    expect((await all.step(a.job, thin(a.slot, 3.3))).state).toBe('done')
    const b = await make('Second')
    // the item that is looked up is let go, and its bytes with it, just when it is stored for the second job
    await all.db.pool.query(`
      create function sweeps_away() returns trigger language plpgsql as $$ begin
        delete from item_blob where blob_id in (select id from blob where sha256 in (select sha from item_wants(new)));
        delete from blob where sha256 in (select sha from item_wants(new));
        return new; end $$`)
    await all.db.pool.query(`create trigger sweeps_away before insert on item for each row when (new.job_id = '${b.job}') execute function sweeps_away()`)
    const asked = await all.call('POST', `/jobs/${b.job}/steps`, thin(b.slot, 3.3))
    await pause(500)
    expect((await all.state(b.job)).steps.find((s) => s.id === asked.body.id)?.state).not.toBe('failed')
    await all.db.pool.query('drop function sweeps_away cascade')
    const step = await all.finished(b.job, asked.body.id)
    expect([step.state, step.problem]).toEqual(['done', null])
  })
})

describe('workers of two versions', () => {
  test('leave a step that asks for another one, say so, and the web server of the new one asks for its own', async () => {
    const job = (await all.newJob('Upgrade')).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const { slot } = (await all.state(job)).tray[0]
    // as the next version of the program would ask for it
    await all.db.pool.query(`
      create function next_version() returns trigger language plpgsql as $$ begin new.version := new.version + 1; return new; end $$`)
    await all.db.pool.query('create trigger next_version before insert on step for each row execute function next_version()')
    const asked = await all.call('POST', `/jobs/${job}/steps`, thin(slot, 2.9))
    await all.db.pool.query('drop function next_version cascade')
    const step = async () => (await all.state(job)).steps.find((s) => s.id === asked.body.id)
    expect((await until(step, (s) => s?.phase !== '', 30))?.phase).toBe('waits for a computing process of its version')
    // other jobs do not wait behind it
    const other = (await all.newJob('Meanwhile')).job.id
    await all.bring(other, 'cube.ply', cubePly(12))
    expect((await step())?.state).toBe('queued')
    await askForThisVersion()
    const done = await all.finished(job, asked.body.id)
    expect([done.state, done.phase]).toEqual(['done', ''])
  })
})

describe('the disk is full', () => {
  const fill = async () => {
    await all.db.pool.query(
      "create function no_room() returns trigger language plpgsql as $$ begin raise exception 'could not extend file' using errcode = '53100'; end $$",
    )
    await all.db.pool.query('create trigger no_room before insert on blob_chunk execute function no_room()')
  }
  const empty = () => all.db.pool.query('drop function if exists no_room cascade')
  test('a step waits and says why, and goes on when there is room; a file is refused in words, and nothing of it is kept', async () => {
    const job = (await all.newJob('No room')).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const [pass] = (await all.state(job)).tray
    await fill()
    try {
      const asked = await all.call('POST', `/jobs/${job}/steps`, thin(pass.slot, 3.7))
      const step = async () => (await all.state(job)).steps.find((s) => s.id === asked.body.id)
      expect((await until(step, (s) => s?.phase !== '', 30))?.state).toMatch(/queued|running/)
      expect((await until(step, (s) => s?.state === 'queued' && s.phase !== '', 30))?.phase).toBe('waits for room: the disk of the database is full')
      const r = await fetch(`${all.url}/api/v1/jobs/${job}/files?name=more.xyz`, { method: 'PUT', body: tableAndBlock() })
      expect([r.status, await r.json()]).toMatchObject([507, { code: 'disk-full', remedy: expect.stringMatching(/Make room/) as unknown }])
      expect((await all.state(job)).steps).toHaveLength(2)
      expect((await all.call('GET', '/jobs')).status).toBe(200)
      await empty()
      expect(await all.finished(job, asked.body.id)).toMatchObject({ state: 'done', problem: null, phase: '' })
    } finally {
      await empty()
    }
  }, 90_000)
})
