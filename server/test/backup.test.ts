import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { spawn, type ChildProcess } from 'node:child_process'
import { mkdtempSync, readdirSync, readFileSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { BASE, type JobState } from '@oak-gauge/contract'
import { backup, restore } from '../src/backup/backup.ts'
import { findPostgres, freePort, startCluster, type Cluster } from '../src/postgres.ts'
import { cubePly, ran, startAll, tableAndBlock, until, type All } from './help.ts'

const folder = mkdtempSync(join(tmpdir(), 'oak-backup-'))
const file = join(folder, 'monday.backup')
const bin = findPostgres()
const built = (program: string) => fileURLToPath(new URL(`../../.build/${program}.js`, import.meta.url))
let all: All
let job = ''
beforeAll(async () => {
  all = await startAll()
  job = (await all.newJob('Kept')).job.id
  await all.bring(job, 'pass.xyz', tableAndBlock())
  await all.bring(job, 'drawn.ply', cubePly(20), '&role=nominal&unit=mm')
  await all.step(job, { operation: 'thin', inputs: { passes: [(await all.state(job)).tray[0].slot] }, params: { size: 2 } })
  await backup(all.db.url, bin, file)
}, 120_000)
afterAll(async () => {
  await all.stop()
  rmSync(folder, { recursive: true, force: true })
})

/** Everything that is stored, told in a few words. */
async function told(a: All): Promise<unknown> {
  const { rows } = await a.db.pool.query(
    "select (select count(*) from job) as jobs, (select count(*) from step) as steps, (select string_agg(title, ' ' order by title) from job) as titles",
  )
  return rows[0]
}

describe('restored into an empty program that runs', () => {
  let cluster: Cluster
  let child: ChildProcess
  let url = ''
  beforeAll(async () => {
    cluster = await startCluster({ root: folder, throwaway: true })
    child = spawn(process.execPath, [built('server')], {
      env: { ...process.env, DATABASE_URL: cluster.url, OAK_DEMO: 'none', OAK_LOG: 'silent', PORT: String(await freePort()), NODE_OPTIONS: '' },
    })
    url = await new Promise<string>((resolve, reject) => {
      let said = ''
      const hear = (b: Buffer) => {
        said += b.toString()
        const found = /Oak Gauge is ready: {2}(http:\S+)/.exec(said)
        if (found) resolve(found[1])
      }
      child.stdout?.on('data', hear)
      child.stderr?.on('data', hear)
      child.on('exit', () => reject(new Error(said)))
    })
  }, 90_000)
  afterAll(async () => {
    const ended = new Promise((resolve) => child.on('exit', resolve))
    child.kill('SIGTERM')
    await ended
    cluster.stop()
  })

  test('all is there as it was, to the last number; and it goes on from there', async () => {
    const oak = await ran('backup', ['restore', file], { env: { DATABASE_URL: cluster.url } })
    expect([oak.status, oak.stderr]).toEqual([0, ''])
    const get = async (path: string) => {
      const r = await fetch(`${url}${BASE}${path}`, { signal: AbortSignal.timeout(5000) }).catch(() => null)
      return r?.ok ? r : null
    }
    const now = (await (
      await until(
        () => get(`/jobs/${job}`),
        (r) => r !== null,
        40,
      )
    )?.json()) as JobState
    expect(now).toEqual(await all.state(job))
    for (const item of now.tray) {
      const bytes = async (r: Response) => Buffer.from(await r.arrayBuffer())
      const there = await bytes(
        (await until(
          () => get(`/items/${item.id}/display?whole=1`),
          (r) => r !== null,
          40,
        )) as Response,
      )
      expect(there.equals(await bytes(await fetch(`${all.url}${BASE}/items/${item.id}/display?whole=1`)))).toBe(true)
    }
    const inputs = { passes: [now.tray[0].slot] }
    const asked = await fetch(`${url}${BASE}/jobs/${job}/steps`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ operation: 'thin', inputs, params: { size: 5 } }),
    })
    const { id } = (await asked.json()) as { id: string }
    const state = async () => ((await (await get(`/jobs/${job}`))?.json()) as JobState | undefined)?.steps.find((s) => s.id === id)?.state
    expect(await until(state, (s) => s === 'done' || s === 'failed', 40)).toBe('done')
  }, 120_000)
})

describe('refused, and nothing changed', () => {
  const refused = async (path: string, replace = false): Promise<{ code: string; where: string; remedy: string }> => {
    const before = await told(all)
    try {
      await restore(all.db.url, bin, path, replace)
    } catch (e) {
      expect(await told(all)).toEqual(before)
      return e as { code: string; where: string; remedy: string }
    }
    throw new Error('restored')
  }
  test('where there are jobs, unless it is said', async () => {
    expect(await refused(file)).toMatchObject({ code: 'not-empty', remedy: expect.stringContaining('--replace') as unknown })
    await all.newJob('Of today')
    await restore(all.db.url, bin, file, true)
    expect(await told(all)).toMatchObject({ titles: 'Kept' })
  })
  test('while a step is computed', async () => {
    const { rows } = await all.db.pool.query<{ id: string }>(
      "insert into step (job_id, operation, version, params, inputs, state, attempt) values ($1, 'thin', 1, '{}', '{}', 'running', gen_random_uuid()) returning id",
      [job],
    )
    expect((await refused(file, true)).code).toBe('busy')
    await all.db.pool.query('delete from step where id = $1', [rows[0].id])
  })
  test.each([0.3, 0.6, 0.98])('a backup of which %p is there', async (share) => {
    const part = join(folder, `part${share}`)
    writeFileSync(part, readFileSync(file))
    truncateSync(part, Math.floor(share * statSync(file).size))
    expect((await refused(part, true)).code).toMatch(/restore-failed|no-backup/)
  })
  test('something else, or nothing', async () => {
    const other = join(folder, 'notes.txt')
    writeFileSync(other, 'no backup at all')
    expect((await refused(other, true)).code).toBe('no-backup')
    expect((await refused(join(folder, 'none'), true)).code).toBe('no-backup')
  })
  test('of a later version', async () => {
    const later = join(folder, 'later.backup')
    await all.db.pool.query("insert into migration (name) values ('999-later')")
    await backup(all.db.url, bin, later)
    await all.db.pool.query("delete from migration where name = '999-later'")
    expect(await refused(later, true)).toMatchObject({ code: 'newer', where: '999-later' })
  })
})

test('a backup takes the place of no file, and leaves no half of one', async () => {
  await expect(backup(all.db.url, bin, file)).rejects.toMatchObject({ code: 'exists' })
  await expect(backup(all.db.url.replace(/:\/\/\w+:[^@]+/, '://gauge:wrong'), bin, join(folder, 'half.backup'))).rejects.toMatchObject({
    code: 'backup-failed',
  })
  await expect(backup(all.db.url, bin, join(folder, 'no', 'such', 'folder'))).rejects.toMatchObject({ code: 'backup-failed' })
  expect(readdirSync(folder).filter((f) => f.includes('half') || f.includes('.part'))).toEqual([])
})
test('called otherwise it says how', async () => {
  const oak = await ran('backup', ['restore'])
  expect([oak.status, oak.stderr]).toEqual([2, expect.stringContaining('oak restore FILE [--replace]')])
})
