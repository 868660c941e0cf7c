import { Router } from 'express'
import { API } from '@oak-gauge/contract'
import { serve } from '../api/serve.ts'
import type { Bus } from '../events.ts'

/** Server-sent events: all of them, or those of one job (?job=). A comment every 20 s keeps the line open. */
export function eventRoutes(bus: Bus): Router {
  const r = Router()
  serve(r, API.events, async ({ query: { job }, req, res }) => {
    res.writeHead(200, { 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-store', Connection: 'keep-alive', 'X-Accel-Buffering': 'no' })
    res.write(': open\n\n')
    const off = bus.on('event', (e) => {
      if (!job || !('job' in e) || e.job === job) res.write(`data: ${JSON.stringify(e)}\n\n`)
    })
    const alive = setInterval(() => res.write(': alive\n\n'), 20_000)
    await new Promise((resolve) => req.on('close', resolve))
    clearInterval(alive)
    off()
  })
  return r
}
