import { randomUUID } from 'node:crypto'
import { Readable } from 'node:stream'
import { Router, type Request as Asked, type Response as Answer } from 'express'
import { Server } from '@tus/server'
import { Metadata } from '@tus/utils'
import { API, BASE, pathOf, uploadTold, type Problem } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { serve } from '../api/serve.ts'
import type { Database } from '../db/connect.ts'
import { problemOf } from '../errors.ts'
import { fileNamed, LARGEST_FILE, mustBeTaken } from '../ledger/file.ts'
import { enqueueFile } from '../ledger/enqueue.ts'
import { jobOr404 } from '../ledger/state.ts'
import { log } from '../log.ts'
import { refuse } from '../problem.ts'
import type { Queue } from '../queue.ts'
import type { SessionDoor } from '../sessions/door.ts'
import { watchSpace } from '../space.ts'
import { UploadStore } from '../uploads.ts'

/** Files in parts that may be gone on with after a break: the open protocol tus 1.0.0 (tus.io), by its own library. */
export function uploadRoutes(db: Database, queue: Queue, sessions: SessionDoor): Router {
  const r = Router()
  const space = watchSpace(db)
  const store = new UploadStore(db, async ({ id, told }, blob) => {
    const job = await jobOr404(told.job)
    const step = await enqueueFile(queue, job.id, await fileNamed(told, job, blob, sessions, id))
    return step.id
  })
  /** what was wrong in an answer that the library made of it */
  const wrong = new WeakMap<Request, unknown>()
  const tus = new Server({
    path: BASE + pathOf(API.beginUpload, {}),
    datastore: store,
    maxSize: LARGEST_FILE,
    relativeLocation: true,
    allowedOrigins: [],
    namingFunction: () => randomUUID(),
    async onUploadFinish(_req, { id }) {
      await store.finish(id)
      return {}
    },
    onResponseError(req, e) {
      wrong.set(req, e)
      return undefined
    },
  })

  const handle = async (req: Asked, res: Answer) => {
    const headers = new Headers(Object.entries(req.headers).map(([name, value]) => [name, String(value)]))
    const bare = req.method === 'GET' || req.method === 'HEAD'
    const asked = new Request(`${req.protocol}://${req.headers.host}${req.originalUrl}`, {
      method: req.method,
      headers,
      ...(bare ? {} : { body: Readable.toWeb(req), duplex: 'half' }),
    } as RequestInit)
    const answer = await tus.handleWeb(asked)
    if (res.destroyed) return
    for (const [name, value] of answer.headers) if (name !== 'content-length' && name !== 'content-type') res.setHeader(name, value)
    if (answer.status < 400) return void res.status(answer.status).end()
    const e = wrong.get(asked)
    if (e instanceof Error) {
      const { problem, status, issues } = problemOf(e, req.path)
      if (problem.code === 'internal') log.error({ err: e, path: req.path }, 'request')
      return refuse(res, problem, status, issues)
    }
    refuse(res, inOurWords(answer.status, await answer.text(), req.path), answer.status)
  }

  r.post(API.beginUpload.path, async (req, res) => {
    const told = uploadTold.parse(metadata(req.headers['upload-metadata']))
    await jobOr404(told.job)
    const length = Number(req.headers['upload-length'])
    if (Number.isFinite(length)) mustBeTaken(length, told.name, await space())
    await handle(req, res)
  })
  r.patch(API.continueUpload.path, handle)
  r.head(API.continueUpload.path, handle)
  r.delete(API.forgetUpload.path, handle)
  r.options(API.beginUpload.path, handle)
  serve(r, API.uploads, async ({ params }) => store.ofJob((await jobOr404(params.id)).id))
  return r
}

function metadata(header: string | string[] | undefined): unknown {
  try {
    return Metadata.parse(String(header ?? ''))
  } catch {
    throw new OakError('bad-request', 'What is said of the file cannot be read.', { where: 'Upload-Metadata', remedy: 'Send it as tus 1.0.0 says.' })
  }
}

/** What the library says of the protocol itself. */
function inOurWords(status: number, said: string, where: string): Problem {
  if (status === 404 || status === 410)
    return { code: 'not-found', detail: 'There is no such upload (any more).', where, remedy: 'Begin anew: what nobody goes on with is kept for a day.' }
  if (status === 409)
    return { code: 'moved-on', detail: 'The upload stands at another place.', where, remedy: 'Ask where it stands (HEAD), and go on from there.' }
  return { code: 'bad-request', detail: said.trim() || 'The request cannot be read.', where, remedy: 'Send it as tus 1.0.0 says.' }
}
