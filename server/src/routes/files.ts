import { Router } from 'express'
import { pipeline } from 'node:stream/promises'
import { Readable } from 'node:stream'
import { API, packHeader, padding, type ContainerEntry } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { serve } from '../api/serve.ts'
import { sendBlob, storeFile } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import { named } from '../download.ts'
import { ItemRow, type ArrayRef } from '../db/models.ts'
import type { Exports } from '../helper/exports.ts'
import type { Queue } from '../queue.ts'
import { enqueueFile } from '../ledger/enqueue.ts'
import { bareName, fileNamed, LARGEST_FILE, mustBeTaken } from '../ledger/file.ts'
import { jobOr404, loadLedger, toStep } from '../ledger/state.ts'
import type { SessionDoor } from '../sessions/door.ts'
import { watchSpace } from '../space.ts'

export function fileRoutes(db: Database, queue: Queue, sessions: SessionDoor, exports: Exports): Router {
  const r = Router()
  const space = watchSpace(db)

  // streamed into the database; the step that reads it is queued behind it
  serve(r, API.bringFile, async ({ params, query, req }) => {
    const job = await jobOr404(params.id)
    const name = bareName(query.name)
    const length = req.headers['content-length']
    mustBeTaken(length === undefined ? 1 : Number(length), name, await space())
    const stored = await storeFile(db.streams, name, limited(req, name))
    if (stored.bytes === 0) mustBeTaken(0, name, null)
    const step = await enqueueFile(queue, job.id, await fileNamed(query, job, stored.id, sessions, query.request))
    return toStep(step)
  })

  // never changes, and so is kept by the browser for ever
  serve(r, API.display, async ({ params, query, res }) => {
    const item = await itemOr404(params.id)
    await sendArrays(db, item.display, query.whole ? item.arrays : undefined, res)
  })
  serve(r, API.surfaces, async ({ params }) => (await itemOr404(params.id)).meta.surfaces ?? [])
  serve(r, API.file, async ({ params, query, res }) => {
    const item = await itemOr404(params.id)
    const file = await exports.of(item, await partOf(item), query.format)
    try {
      res.setHeader('Content-Type', 'application/octet-stream')
      res.setHeader('Content-Length', file.bytes)
      named(res, item.name, file.ending)
      await pipeline(file.read(), res)
    } finally {
      file.done()
    }
  })

  // it is written, and kept for whoever fetches it next
  serve(r, API.fileSize, async ({ params, query }) => {
    const item = await itemOr404(params.id)
    const file = await exports.of(item, await partOf(item), query.format)
    file.done()
    return { bytes: file.bytes }
  })
  return r
}

async function* limited(stream: AsyncIterable<Uint8Array>, name: string): AsyncGenerator<Uint8Array> {
  let n = 0
  for await (const p of stream) {
    n += p.length
    if (n > LARGEST_FILE)
      throw new OakError('too-large', 'The file has more than 2 GB.', { where: name, remedy: 'Thin the scan before exporting it, or export it in parts.' })
    yield p
  }
}

async function itemOr404(id: string): Promise<ItemRow> {
  const item = /^[0-9a-f-]{36}$/.test(id) ? await ItemRow.findByPk(id) : null
  if (!item) throw new OakError('not-found', 'There is no such item.', { where: id, remedy: 'Load the job again.' })
  return item
}

/** What a table of values belongs to. */
async function partOf(item: ItemRow): Promise<ItemRow | null> {
  if (item.kind !== 'field') return null
  const { tray } = await loadLedger(item.jobId)
  return tray.get(item.onSlot ?? '') ?? null
}

async function sendArrays(
  db: Database,
  display: Record<string, ArrayRef>,
  whole: Record<string, ArrayRef> | undefined,
  res: import('express').Response,
): Promise<void> {
  const refs = whole ?? display
  const names = Object.keys(refs)
  const entries: ContainerEntry[] = names.map((name) => ({ name, type: refs[name].type, length: refs[name].length }))
  const ids = new Map<string, string>()
  const found = await db.pool.query<{ id: string; sha256: string }>('select id, sha256 from blob where sha256 = any($1)', [names.map((n) => refs[n].sha)])
  for (const f of found.rows) ids.set(f.sha256, f.id)
  const header = packHeader(entries)
  const widths = { f32: 4, u32: 4, u8: 1 }
  const total = header.length + entries.reduce((s, e) => s + e.length * widths[e.type] + padding(e.length * widths[e.type]), 0)
  res.setHeader('Content-Type', 'application/octet-stream')
  res.setHeader('Content-Length', total)
  res.setHeader('Cache-Control', 'private, max-age=31536000, immutable')
  async function* body() {
    yield header
    for (const e of entries) {
      const id = ids.get(refs[e.name].sha)
      if (!id) throw new OakError('lost', 'Stored numbers are missing from the database.', { remedy: 'Restore the database from a backup.' })
      yield* sendBlob(db.streams, id)
      const rest = padding(e.length * widths[e.type])
      if (rest) yield new Uint8Array(rest)
    }
  }
  await pipeline(Readable.from(body()), res)
}
