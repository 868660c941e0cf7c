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
import { jobOr404, loadLedger, toStep } from '../ledger/state.ts'
import type { SessionDoor } from '../sessions/door.ts'
import { mustFit, watchSpace } from '../space.ts'

const LARGEST_FILE = 2 * 1024 ** 3 + 64 * 1024 ** 2

export function fileRoutes(db: Database, queue: Queue, sessions: SessionDoor, exports: Exports): Router {
  const r = Router()
  const space = watchSpace(db)

  // streamed into the database; the step that reads it is queued behind it
  serve(r, API.bringFile, async ({ params, query, req }) => {
    const job = await jobOr404(params.id)
    const name = query.name.split(/[\\/]/).pop() as string
    const length = Number(req.headers['content-length'] ?? 0)
    if (length > LARGEST_FILE)
      throw new OakError('too-large', `The file has ${(length / 1e9).toFixed(1)} GB; up to 2 GB are taken.`, {
        where: name,
        remedy: 'Thin the scan before exporting it, or export it in parts.',
      })
    mustFit(await space(), length, name)
    // a pass keeps how its scanner stood when it came in
    const recordedWith = job.scanner && (query.role === undefined || query.role === 'pass') ? await sessions.standing(job.scanner) : null
    const stored = await storeFile(db.streams, name, limited(req, name))
    if (stored.bytes === 0) throw new OakError('empty', 'The file is empty (0 bytes).', { where: name, remedy: 'Export or copy it again.' })
    const step = await enqueueFile(queue, job.id, query.role === 'marker-map' ? 'import-markers' : 'import', {
      id: stored.id,
      name,
      role: query.role,
      setup: query.setup,
      unit: query.unit,
      recordedWith,
      request: query.request,
    })
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
