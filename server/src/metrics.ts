import type { RequestHandler } from 'express'
import { collectDefaultMetrics, Gauge, Histogram, Registry } from 'prom-client'
import type { Health } from '@oak-gauge/contract'

/** Figures of this server for a monitor that collects them (Prometheus' text format). */
export function keepMetrics(health: () => Promise<Health>): { count: RequestHandler; answer: RequestHandler } {
  const registry = new Registry()
  collectDefaultMetrics({ register: registry })
  const requests = new Histogram({
    name: 'oak_request_seconds',
    help: 'Time until a request was answered, by endpoint',
    labelNames: ['method', 'path', 'status'],
    buckets: [0.005, 0.02, 0.05, 0.1, 0.25, 1, 5, 30],
    registers: [registry],
  })
  const gauge = (name: string, help: string, labelNames: string[] = []) => new Gauge({ name, help, labelNames, registers: [registry] })
  const steps = gauge('oak_steps', 'Steps that wait, and that are computed', ['state'])
  const processes = gauge('oak_processes', 'Processes that listen to this database', ['kind'])
  const links = gauge('oak_scanners', 'Scanners that are switched on, by the state of their link', ['link'])
  const space = gauge('oak_disk_bytes', 'Disk that the database lies on', ['what'])
  const stall = gauge('oak_longest_stall_seconds', 'Longest time for which the event loop was held up in the last minute')

  return {
    count(req, res, next) {
      const end = requests.startTimer()
      // the endpoint, not the address: ids would make a series each
      res.on('finish', () => end({ method: req.method, path: (req.route as { path?: string } | undefined)?.path ?? 'other', status: String(res.statusCode) }))
      next()
    },
    async answer(_req, res) {
      const h = await health()
      steps.set({ state: 'queued' }, h.queue.waiting)
      steps.set({ state: 'running' }, h.queue.running)
      for (const [kind, n] of Object.entries(h.processes)) processes.set({ kind }, n)
      links.reset()
      for (const { link } of h.scanners ?? []) links.inc({ link })
      if (h.space) for (const what of ['free', 'total'] as const) space.set({ what }, h.space[what])
      stall.set(h.stalls.longest / 1000)
      res.type(registry.contentType).send(await registry.metrics())
    },
  }
}
