import type { Health } from '@oak-gauge/contract'
import type { Database } from './db/connect.ts'
import type { SessionDoor } from './sessions/door.ts'
import { watchSpace } from './space.ts'
import { watchStalls } from './stalls.ts'

/** ms that the process of the scanners has to say how its links are: whoever asks whether the program lives must not wait for one that may be dead */
const PATIENCE = 100

/** How the program is, as far as this process knows: everything is looked at anew. */
export function watchHealth(db: Database, sessions: SessionDoor): () => Promise<Health> {
  const stalls = watchStalls()
  const space = watchSpace(db)
  return async () => {
    const began = performance.now()
    const late = new Promise<null>((resolve) => setTimeout(resolve, PATIENCE, null).unref())
    const scanners = Promise.race([sessions.links().catch(() => null), late])
    const room = space()
    const { rows } = await db.pool.query<{ waiting: string; running: string; web: string; sessions: string; worker: string }>(`
      select * from
        (select count(*) filter (where state = 'queued') as waiting, count(*) filter (where state = 'running') as running from step where state in ('queued', 'running')) s,
        (select ${KINDS.map((k) => `count(*) filter (where application_name = 'oak ${k}') as ${k}`).join(', ')} from pg_stat_activity) p`)
    const database = performance.now() - began
    const [{ waiting, running, ...processes }] = rows
    return {
      ok: true,
      database: { milliseconds: database },
      queue: { waiting: Number(waiting), running: Number(running) },
      processes: { web: Number(processes.web), sessions: Number(processes.sessions), worker: Number(processes.worker) },
      scanners: await scanners,
      space: await room,
      stalls: stalls(),
    }
  }
}
const KINDS = ['web', 'sessions', 'worker'] as const
