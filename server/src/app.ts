import compression from 'compression'
import express, { type Express } from 'express'
import helmet from 'helmet'
import { existsSync } from 'node:fs'
import { pinoHttp } from 'pino-http'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { BASE } from '@oak-gauge/contract'
import type { Database } from './db/connect.ts'
import type { Exports } from './helper/exports.ts'
import type { Queue } from './queue.ts'
import { watchHealth } from './health.ts'
import { log } from './log.ts'
import { keepMetrics } from './metrics.ts'
import { sameHostOnly } from './samehost.ts'
import { answerErrors } from './errors.ts'
import { aboutRoutes } from './routes/about.ts'
import { eventRoutes } from './routes/events.ts'
import { fileRoutes } from './routes/files.ts'
import { jobRoutes } from './routes/jobs.ts'
import { placementRoutes } from './routes/markers.ts'
import { uploadRoutes } from './routes/uploads.ts'
import type { SessionDoor } from './sessions/door.ts'

/** The web application. pages: folder of the built browser part; left out in tests of the interface alone. */
export function buildApp(db: Database, queue: Queue, sessions: SessionDoor, exports: Exports, pages?: string): Express {
  const app = express()
  app.disable('x-powered-by')
  // behind a proxy on this machine the page's own address may be https
  app.set('trust proxy', 'loopback')
  app.use(
    pinoHttp({
      logger: log,
      autoLogging: { ignore: (req) => (req.url ?? '').startsWith('/assets') },
      customLogLevel: (_req, res, err) => (err || res.statusCode >= 500 ? 'error' : 'debug'),
    }),
  )
  // isolation of the page is what makes shared memory between its workers possible
  app.use(
    helmet({
      crossOriginOpenerPolicy: { policy: 'same-origin' },
      crossOriginEmbedderPolicy: { policy: 'require-corp' },
      strictTransportSecurity: false,
      contentSecurityPolicy: {
        directives: {
          defaultSrc: ["'self'"],
          scriptSrc: ["'self'", "'wasm-unsafe-eval'"],
          workerSrc: ["'self'", 'blob:'],
          styleSrc: ["'self'", "'unsafe-inline'"],
          imgSrc: ["'self'", 'data:', 'blob:'],
          fontSrc: ["'self'", 'data:'],
          connectSrc: ["'self'", 'blob:', 'data:'],
          upgradeInsecureRequests: null,
        },
      },
    }),
  )
  app.use(sameHostOnly)
  const health = watchHealth(db, sessions)
  const metrics = keepMetrics(health)
  app.use(metrics.count)
  app.get('/metrics', metrics.answer)
  app.use(compression({ filter: (req, res) => !/^\/api\/v1\/(items|events|scanners\/[^/]+\/live)/.test(req.originalUrl) && compression.filter(req, res) }))
  app.use(BASE, fileRoutes(db, queue, sessions, exports))
  app.use(BASE, uploadRoutes(db, queue, sessions))
  app.use(BASE, sessions.routes)
  // artefact files and images come as they are: their routes read the body themselves
  const json = express.json({ limit: '8mb' })
  app.use((req, res, next) => (req.method === 'PUT' ? next() : json(req, res, next)))
  app.use(BASE, jobRoutes(queue))
  app.use(BASE, placementRoutes(db))
  app.use(BASE, eventRoutes(queue.bus))
  app.use(BASE, aboutRoutes(health))
  app.use('/api', (req) => {
    throw new OakError('not-found', `There is nothing at ${req.method} ${req.originalUrl}.`, { remedy: `What there is, is described at ${BASE}/docs.` })
  })
  if (pages && existsSync(pages)) {
    app.use(
      express.static(pages, {
        index: false,
        immutable: true,
        maxAge: '1y',
        setHeaders: (res, path) => {
          if (!path.includes('/assets/')) res.setHeader('Cache-Control', 'no-cache')
        },
      }),
    )
    app.get('/{*path}', (_req, res) => {
      res.setHeader('Cache-Control', 'no-cache')
      res.sendFile('index.html', { root: pages })
    })
  }
  app.use(answerErrors)
  return app
}
