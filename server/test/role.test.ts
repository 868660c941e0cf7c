import { afterAll, expect, test } from '@jest/globals'
import { fork, type ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { connect, openPool } from '../src/db/connect.ts'
import { HAND_OVER } from '../src/dbrole.ts'
import { watchHealth } from '../src/health.ts'
import { startCluster } from '../src/postgres.ts'
import { openQueue } from '../src/queue.ts'

const root = mkdtempSync(join(tmpdir(), 'oak-role-'))
const cluster = await startCluster({ root, throwaway: true })
let worker: ChildProcess | undefined
afterAll(() => {
  worker?.kill('SIGKILL')
  cluster.stop()
  rmSync(root, { recursive: true, force: true })
})

test('a role that owns its database and may nothing else is enough', async () => {
  const admin = openPool(cluster.admin, 1)
  await admin.query("create role plain login password 'x' nosuperuser nocreatedb nocreaterole")
  await admin.query('create database plain owner plain')
  await admin.end()
  const url = Object.assign(new URL(cluster.admin), { username: 'plain', password: 'x', pathname: '/plain' }).href
  const db = await connect(url)
  const queue = await openQueue(db, 'web')
  worker = fork(fileURLToPath(new URL('../../.build/worker.js', import.meta.url)), {
    env: { ...process.env, DATABASE_URL: url, OAK_LOG: 'silent', NODE_OPTIONS: '' },
  })
  await new Promise((resolve) => worker?.on('message', resolve))
  const health = await watchHealth(db, { links: () => Promise.resolve([]) } as never)()
  // it may not ask where the data lie: nothing is claimed
  expect(health).toMatchObject({ ok: true, processes: { web: 1, worker: 1 }, space: null })
  await queue.close()
  await db.close()
}, 60_000)

test('the program works with a role that may nothing else, also over jobs that were made when it was the administrator', async () => {
  const mine = openPool(cluster.url, 1)
  const may = async (pool: typeof mine, sql: string) => (await pool.query(sql).catch((e: { code: string }) => e.code)) !== '42501'
  expect((await mine.query('select rolsuper, rolcreaterole, rolcreatedb from pg_roles where rolname = current_user')).rows).toEqual([
    { rolsuper: false, rolcreaterole: false, rolcreatedb: false },
  ])
  expect(await may(mine, "copy (select 1) to program 'true'")).toBe(false)
  expect(await may(mine, "select pg_read_file('/etc/hostname')")).toBe(false)
  expect(await may(mine, 'show data_directory')).toBe(true)
  await mine.end()
  // as an earlier version left it
  const old = Object.assign(new URL(cluster.admin), { pathname: '/old' }).href
  const admin = openPool(cluster.admin, 1)
  await admin.query('create database old')
  const db = await connect(old)
  const queue = await openQueue(db, 'other')
  await db.pool.query("insert into job (title, purpose, surface) values ('Before', 'inspection', 'matte')")
  await queue.close()
  await db.close()
  const before = openPool(old, 1)
  await before.query(`alter database old owner to gauge; ${HAND_OVER}`)
  await before.end()
  const now = await connect(Object.assign(new URL(cluster.url), { pathname: '/old' }).href)
  const again = await openQueue(now, 'other')
  expect((await now.pool.query('select title from job')).rows).toEqual([{ title: 'Before' }])
  const owned = `select c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_roles r on r.oid = c.relowner
    where n.nspname in ('public', 'pgboss') and r.rolname <> 'gauge'`
  expect((await now.pool.query(owned)).rows).toEqual([])
  await now.pool.query('alter table job add later int; drop function item_holds cascade')
  await again.boss.send('steps', { job: 'x' })
  await again.close()
  await now.close()
  await admin.end()
}, 60_000)
