import express, { Router, type NextFunction, type Request, type RequestHandler, type Response } from 'express'
import { request, type IncomingHttpHeaders } from 'node:http'
import { pipeline } from 'node:stream/promises'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { BASE, type Problem, type RecordedWith, type ScannerSummary } from '@oak-gauge/contract'
import type { Database } from '../db/connect.ts'
import { ScannerRow } from '../db/scannermodels.ts'
import { helperProcess } from '../helper/helper.ts'
import type { Queue } from '../queue.ts'
import { captureRoutes } from '../routes/capture.ts'
import { mappingRoutes } from '../routes/markers.ts'
import { scannerRoutes } from '../routes/scanners.ts'
import { log } from '../log.ts'
import type { ScannerKeeper } from '../scanners/keeper.ts'
import { standing } from '../scanners/summary.ts'

/** What the web server needs of whoever keeps the scanners. */
export interface SessionDoor {
  /** everything that has to do with scanners */
  routes: RequestHandler
  /** how a scanner stands now, to be written beside what is recorded with it */
  standing(scanner: string): Promise<RecordedWith>
  /** scanners that are switched on */
  links(): Promise<Link[]>
  close(): Promise<void>
}
type Link = Pick<ScannerSummary, 'name' | 'link'>

/** The scanners are kept by this process. */
export function sessionsHere(db: Database, queue: Queue, keeper: ScannerKeeper): SessionDoor {
  const routes = Router()
  const json = express.json({ limit: '8mb' })
  // artefact files and images come as they are: their routes read the body themselves
  const ours = (req: Request, res: Response, next: NextFunction) => (req.method === 'PUT' ? next() : json(req, res, next))
  const helper = helperProcess(db.url)
  routes.use(ours, scannerRoutes(keeper, helper), mappingRoutes(db, queue, keeper), captureRoutes(db, queue, keeper))
  const links = async () => {
    const rows = await ScannerRow.findAll({ where: { switchedOn: true }, order: [['createdAt', 'ASC']], attributes: ['id', 'name'] })
    return rows.map(({ id, name }) => ({ name, link: keeper.of(id).status }))
  }
  return { routes, standing: (scanner) => standing(scanner, keeper), links, close: () => helper.close() }
}

const PATHS = /^\/(scanners|calibrations|verifications|artefacts)(\/|$)|^\/jobs\/[^/]+\/(mapping|capture)$/

/** What is between two ends of one connection, and not between the next two (RFC 9110, 7.6.1). */
const HOP = new Set(['connection', 'keep-alive', 'proxy-connection', 'te', 'trailer', 'upgrade'])
const onwards = (h: IncomingHttpHeaders) => Object.fromEntries(Object.entries(h).filter(([name]) => !HOP.has(name)))

/** The scanners are kept by a process of its own, which listens on a socket that nobody else can reach. */
export function sessionsAt(socketPath: string): SessionDoor {
  return {
    close: () => Promise.resolve(),
    links: () => ask(socketPath, '/links'),
    routes(req, res, next) {
      if (!PATHS.test(req.path)) return next()
      const onward = request({ socketPath, path: `${BASE}${req.url}`, method: req.method, headers: onwards(req.headers) }, (answer) => {
        res.writeHead(answer.statusCode ?? 502, onwards(answer.headers))
        // whoever asked may have gone
        pipeline(answer, res).catch(() => undefined)
      })
      onward.on('error', (e) => {
        // answered already, or nobody waits for it any more
        if (res.headersSent || res.destroyed) return
        log.warn({ err: e, path: req.path }, 'the sessions did not answer')
        next(away(e))
      })
      res.on('close', () => onward.destroy())
      pipeline(req, onward).catch(() => undefined)
    },
    async standing(scanner) {
      for (let attempt = 0; ; attempt++)
        try {
          return await ask(socketPath, `/standing/${scanner}`)
        } catch (e) {
          // it is started anew within a second or two
          if (attempt === 20 || (e instanceof OakError && e.code !== 'sessions-away')) throw e
          await new Promise((resolve) => setTimeout(resolve, 500))
        }
    },
  }
}

const away = (cause: unknown) =>
  new OakError('sessions-away', 'The part of the program that keeps the scanners is starting.', {
    remedy: 'Try again in a moment. What was recorded is kept, and what was going on goes on.',
    cause,
  })

function ask<T>(socketPath: string, path: string): Promise<T> {
  return new Promise((resolve, reject) => {
    const r = request({ socketPath, path }, (answer) => {
      let text = ''
      answer.on('data', (b: Buffer) => (text += b.toString()))
      answer.on('end', () => {
        const body = JSON.parse(text) as T & Problem
        if (answer.statusCode === 200) resolve(body)
        else reject(new OakError(body.code, body.detail, { remedy: body.remedy }))
      })
      answer.on('error', (e) => reject(away(e)))
    })
    r.on('error', (e) => reject(away(e)))
    r.end()
  })
}
