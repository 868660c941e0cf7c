import { Router } from 'express'
import type { Bus } from '../events.ts'

/** Server-sent events: all of them, or those of one job (?job=). A comment every 20 s keeps the line open. */
export function eventRoutes(bus: Bus): Router {
  const r = Router()
  r.get('/events', (req, res) => {
    const job = typeof req.query['job'] === 'string' ? req.query['job'] : undefined
    res.writeHead(200, { 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', Connection: 'keep-alive', 'X-Accel-Buffering': 'no' })
    res.write(': open\n\n')
    const off = bus.on('event', (e) => {
      if (!job || !('job' in e) || e.job === job) res.write(`data: ${JSON.stringify(e)}\n\n`)
    })
    const alive = setInterval(() => res.write(': alive\n\n'), 20_000)
    req.on('close', () => {
      clearInterval(alive)
      off()
    })
  })
  return r
}
