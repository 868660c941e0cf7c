import { afterAll, expect, test } from '@jest/globals'
import { fork, type ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { connect, openPool } from '../src/db/connect.ts'
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
  const admin = openPool(cluster.url, 1)
  await admin.query("create role plain login password 'x' nosuperuser nocreatedb nocreaterole")
  await admin.query('create database plain owner plain')
  await admin.end()
  const url = Object.assign(new URL(cluster.url), { username: 'plain', password: 'x', pathname: '/plain' }).href
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
