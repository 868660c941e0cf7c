import PgBoss from 'pg-boss'
import type { Database } from './db/connect.ts'
import { openBus, type Bus } from './events.ts'
import { log } from './log.ts'

/** What the messages to the workers go through, and the word between all processes. */
export interface Queue {
  boss: PgBoss
  bus: Bus
  close(): Promise<void>
}

export const QUEUE = 'steps'
const OPENING = 4182

/**
 * Opens both. One program at a time sets up the tables of the queue: two at once lock each other out (both have written to its list of queues and want it
 * for themselves), and one of them would fail.
 */
export async function openQueue(db: Database, kind: 'web' | 'sessions' | 'worker' | 'other' = 'other', max = 2): Promise<Queue> {
  const bus = await openBus(db.url, db.pool, kind)
  const boss = new PgBoss({ connectionString: db.url, max })
  boss.on('error', (e) => log.error({ err: e }, 'queue'))
  const turn = await db.pool.connect()
  try {
    await turn.query('select pg_advisory_lock($1)', [OPENING])
    await boss.start()
    await boss.createQueue(QUEUE)
    await turn.query('select pg_advisory_unlock($1)', [OPENING])
    turn.release()
  } catch (e) {
    // the lock goes with its connection
    turn.release(true)
    await bus.close()
    throw e
  }
  return {
    boss,
    bus,
    async close() {
      await boss.stop({ graceful: false })
      await bus.close()
    },
  }
}
