import { EventEmitter } from 'node:events'
import pg from 'pg'
import type { ServerEvent } from '@oak-gauge/contract'
import { log } from './log.ts'

const CHANNEL = 'oak'

type Message = { to: 'browser'; event: ServerEvent } | { to: 'worker'; wake: true } | { to: 'worker'; cancel: string } | { to: 'all'; restored: true }

/** Word between the server, its workers on this or other machines, and through the server the browsers: PostgreSQL's own notifications. */
export interface Bus {
  emit(event: ServerEvent): Promise<void>
  wake(): Promise<void>
  cancel(step: string): Promise<void>
  on(what: 'event', heard: (e: ServerEvent) => void): () => void
  on(what: 'wake', heard: () => void): () => void
  on(what: 'cancel', heard: (step: string) => void): () => void
  /** the line was broken, and is there again: what was said meanwhile was not heard */
  on(what: 'missed', heard: () => void): () => void
  /** the database holds other things than a moment ago: whoever remembers anything of it begins anew */
  on(what: 'restored', heard: () => void): () => void
  close(): Promise<void>
}

/** Listens on a connection of its own, by whose name others see which processes there are; when the database goes away, it tries again every second. */
export async function openBus(url: string, pool: pg.Pool, kind = 'other'): Promise<Bus> {
  const heard = new EventEmitter()
  heard.setMaxListeners(0)
  let listener: pg.Client | undefined
  let closed = false
  const listen = async (): Promise<void> => {
    const client = new pg.Client({ connectionString: url, application_name: `oak ${kind}` })
    client.on('error', () => {
      if (closed || listener !== client) return
      listener = undefined
      const again = () => {
        if (closed) return
        listen().catch(() => setTimeout(again, 1000))
      }
      setTimeout(again, 1000)
    })
    client.on('notification', (n) => {
      const m = JSON.parse(n.payload ?? '{}') as Message
      if (m.to === 'browser') heard.emit('event', m.event)
      else if (m.to === 'all') heard.emit('restored')
      else if ('wake' in m) heard.emit('wake')
      else heard.emit('cancel', m.cancel)
    })
    await client.connect()
    await client.query(`listen ${CHANNEL}`)
    listener = client
    if (before) heard.emit('missed')
    before = true
  }
  let before = false
  await listen()
  const say = async (m: Message) => {
    try {
      await pool.query('select pg_notify($1, $2)', [CHANNEL, JSON.stringify(m)])
    } catch (e) {
      log.warn({ err: e }, 'a notification was not sent')
    }
  }
  return {
    emit: (event) => say({ to: 'browser', event }),
    wake: () => say({ to: 'worker', wake: true }),
    cancel: (step) => say({ to: 'worker', cancel: step }),
    on(what: string, f: (...a: never[]) => void) {
      heard.on(what, f as (...a: unknown[]) => void)
      return () => heard.off(what, f as (...a: unknown[]) => void)
    },
    async close() {
      closed = true
      await listener?.end()
    },
  }
}
