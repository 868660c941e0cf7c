import { afterAll, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { connect, openPool, type Database } from '../src/db/connect.ts'
import { startCluster } from '../src/postgres.ts'
import { openQueue } from '../src/queue.ts'

const root = mkdtempSync(join(tmpdir(), 'oak-queue-'))
const cluster = await startCluster({ root, throwaway: true })
afterAll(() => {
  cluster.stop()
  rmSync(root, { recursive: true, force: true })
})

test('all processes of the program open the queue of a new database at once: none fails', async () => {
  const admin = openPool(cluster.admin, 1)
  const at = (name: string) => Object.assign(new URL(cluster.url), { pathname: `/${name}` }).href
  try {
    // without a turn for each, 5 of 10 such rounds end with a deadlock
    for (let round = 0; round < 10; round++) {
      await admin.query(`create database round${round} owner gauge`)
      const first = await connect(at(`round${round}`))
      const others = [1, 2, 3].map(() => ({ ...first, pool: openPool(first.url, 2) }) satisfies Database)
      const opened = await Promise.allSettled([first, ...others].map((db) => openQueue(db)))
      for (const o of opened) if (o.status === 'fulfilled') await o.value.close()
      for (const o of others) await o.pool.end()
      await first.close()
      expect(opened.map((o) => (o.status === 'fulfilled' ? 'open' : String(o.reason)))).toEqual(['open', 'open', 'open', 'open'])
    }
  } finally {
    await admin.end()
  }
}, 90_000)
