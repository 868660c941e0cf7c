import compression from 'compression'
import express, { type Express, type NextFunction, type Request, type Response } from 'express'
import helmet from 'helmet'
import { existsSync } from 'node:fs'
import { pinoHttp } from 'pino-http'
import { z, ZodError } from 'zod'
import { OPERATIONS } from '@oak-gauge/core/operations/registry.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { OperationInfo } from '@oak-gauge/contract'
import type { Database } from './db/connect.ts'
import type { Queue } from './ledger/change.ts'
import { log } from './log.ts'
import { sameHostOnly } from './samehost.ts'
import { toProblem } from './problem.ts'
import { eventRoutes } from './routes/events.ts'
import { fileRoutes } from './routes/files.ts'
import { jobRoutes } from './routes/jobs.ts'
import { markerRoutes } from './routes/markers.ts'
import { scannerRoutes } from './routes/scanners.ts'
import type { ScannerKeeper } from './scanners/keeper.ts'

const STATUS: Record<string, number> = {
  'not-found': 404,
  busy: 409,
  cold: 409,
  'not-connected': 409,
  'in-use': 409,
  known: 409,
  'moved-on': 409,
  'database-away': 503,
  'not-on-tray': 409,
  'bad-setting': 422,
  'bad-request': 400,
  'too-large': 413,
  internal: 500,
  'out-of-memory': 507,
  lost: 500,
}

/** The web application. pages: folder of the built browser part; left out in tests of the interface alone. */
export function buildApp(db: Database, queue: Queue, keeper: ScannerKeeper, pages?: string): Express {
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
  app.use(compression({ filter: (req, res) => !/^\/api\/(items|events|scanners\/[^/]+\/live)/.test(req.originalUrl) && compression.filter(req, res) }))
  app.get('/api/health', async (_req, res) => {
    const began = performance.now()
    await db.pool.query('select 1')
    res.json({ ok: true, database: `${(performance.now() - began).toFixed(1)} ms` })
  })
  app.use('/api', fileRoutes(db, queue, keeper))
  // artefact files and images come as they are: their routes read the body themselves
  const json = express.json({ limit: '8mb' })
  app.use((req, res, next) => (req.method === 'PUT' ? next() : json(req, res, next)))
  app.get('/api/operations', (_req, res) => {
    res.json(
      OPERATIONS.map((o): OperationInfo => ({
        name: o.name,
        version: o.version,
        title: o.title,
        about: o.about,
        inputs: o.inputs,
        outputs: o.outputs,
        settings: z.toJSONSchema(o.params, { io: 'input' }),
      })),
    )
  })
  app.use('/api', jobRoutes(queue))
  app.use('/api', scannerRoutes(keeper))
  app.use('/api', markerRoutes(db, queue, keeper))
  app.use('/api', eventRoutes(queue.bus))
  app.use('/api', (req) => {
    throw new OakError('not-found', `There is nothing at ${req.method} ${req.originalUrl}.`)
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
  app.use((err: unknown, req: Request, res: Response, next: NextFunction) => {
    if (res.headersSent) return next(err)
    // whoever asked has gone: nobody to answer, and no fault of ours
    if (req.destroyed && (err as { code?: string }).code === 'ECONNRESET') return
    let e = err
    const parse = err as { type?: string; status?: number; parent?: { code?: string; message?: string } }
    const refused = parse.parent?.code ?? ''
    if (parse.type === 'entity.parse.failed') e = new OakError('bad-request', 'The request is no valid JSON.', { remedy: 'Correct it and send it again.' })
    else if (parse.type === 'entity.too.large') e = new OakError('too-large', 'The request is too large.')
    // what the router or a body parser could not read, for example a percent sign that encodes nothing
    else if (parse.status && parse.status >= 400 && parse.status < 500)
      e = new OakError('bad-request', 'The request cannot be read.', { where: req.path, remedy: 'Correct it and send it again.' })
    else if (refused === '22P02' && /uuid/.test(parse.parent?.message ?? '')) e = new OakError('not-found', 'There is no such thing.', { where: req.path })
    // class 22: values that no column takes, such as a zero character or a number beyond its range
    else if (refused.startsWith('22'))
      e = new OakError('bad-request', 'The request holds a value that cannot be stored.', { where: req.path, remedy: 'Correct it and send it again.' })
    const problem = toProblem(e)
    if (problem.code === 'internal') req.log.error({ err })
    res.status(e instanceof ZodError ? 400 : (STATUS[problem.code] ?? 422)).json(problem)
  })
  return app
}
