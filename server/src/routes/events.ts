import { EventEmitter } from 'node:events'
import { randomUUID } from 'node:crypto'
import { Router } from 'express'
import { API, type ServerEvent } from '@oak-gauge/contract'
import { serve } from '../api/serve.ts'
import type { Bus } from '../events.ts'

/** Events that are kept for whoever was away for a moment. */
const KEPT = 500
/** Bytes that wait for a reader who has stopped reading, after which he is let go: he comes back, and gets what he missed. */
const MOST_WAITING = 1_000_000
/** ms between signs of life */
const ALIVE = 20_000

/**
 * Server-sent events: all of them, or those of one job (?job=). Each has a number: who comes back says the last one that he heard, and hears what came after it;
 * where that is not known any more (another server, a connection to the database that was lost), he is told that anything may have changed.
 */
export function eventRoutes(bus: Bus): Router {
  const r = Router()
  const run = randomUUID().slice(0, 8)
  const kept: { n: number; e: ServerEvent }[] = []
  const heard = new EventEmitter().setMaxListeners(0)
  let last = 0
  const take = (e: ServerEvent) => {
    kept.push({ n: ++last, e })
    if (kept.length > KEPT) kept.shift()
    heard.emit('event', last, e)
  }
  bus.on('event', take)
  bus.on('missed', () => take({ type: 'everything' }))

  /** Those after the number that somebody heard last; null when they are not known any more. */
  const since = (id: string): typeof kept | null => {
    const [of, n] = id.split('.')
    const from = Number(n)
    if (of !== run || !Number.isInteger(from) || from > last || from < (kept.at(0)?.n ?? last + 1) - 1) return null
    return kept.filter((k) => k.n > from)
  }

  serve(r, API.events, async ({ query: { job }, req, res }) => {
    res.writeHead(200, { 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', Connection: 'keep-alive', 'X-Accel-Buffering': 'no' })
    const write = (text: string) => {
      if (res.writableLength > MOST_WAITING) res.destroy()
      else res.write(text)
    }
    const send = (n: number, e: ServerEvent) => {
      if (!job || !('job' in e) || e.job === job) write(`id: ${run}.${n}\ndata: ${JSON.stringify(e)}\n\n`)
    }
    // a number to come back with, before anything has happened
    write(`id: ${run}.${last}\ndata: ${JSON.stringify({ type: 'here' } satisfies ServerEvent)}\n\n`)
    const before = req.headers['last-event-id']
    if (typeof before === 'string') {
      const missed = since(before)
      if (missed) for (const { n, e } of missed) send(n, e)
      else send(last, { type: 'everything' })
    }
    heard.on('event', send)
    const alive = setInterval(() => write(': alive\n\n'), ALIVE)
    await new Promise((resolve) => res.on('close', resolve))
    clearInterval(alive)
    heard.off('event', send)
  })
  return r
}
