import { closeSync, openSync, writeSync } from 'node:fs'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { writeAny, WRITABLE } from '@oak-gauge/core/formats/index.ts'
import { writePlacedMarkers } from '@oak-gauge/core/formats/markers.ts'
import { writeFieldCsv } from '@oak-gauge/core/formats/table.ts'
import { transformMesh } from '@oak-gauge/core/shape/mesh.ts'
import { placePoints } from '@oak-gauge/core/shape/points.ts'
import { takeBackSeat } from '../backseat.ts'
import { loadArray } from '../blobs.ts'
import { openPool } from '../db/connect.ts'
import { toProblem } from '../problem.ts'
import { decodeImage } from '../scanners/decode.ts'
import { unpackItem, type Arrays } from '../worker/pack.ts'
import type { HelperAnswer, HelperResult, HelperTask, StoredItem } from './messages.ts'

/** Does what would hold up the event loop of a server: writes files, decodes images. It holds nothing, and may be ended at any moment. */
takeBackSeat()
const pool = openPool(process.env['DATABASE_URL'] ?? '', 1)
// nobody is there any more to write for
process.on('disconnect', () => process.exit())

process.on('message', ({ id, ...task }: HelperTask & { id: number }) => {
  const say = (a: HelperAnswer) => process.send?.(a)
  ;(task.task === 'write' ? write(task) : Promise.resolve().then(() => decodeImage(task.bytes, task.name)))
    .then((result) => say({ id, result }))
    .catch((e: unknown) => say({ id, problem: toProblem(e), stack: e instanceof OakError ? null : e instanceof Error ? (e.stack ?? null) : String(e) }))
})

async function load(item: StoredItem) {
  const arrays: Arrays = {}
  for (const [name, ref] of Object.entries(item.arrays)) arrays[name] = await loadArray(pool, ref)
  return unpackItem(item, arrays)
}

/** Data in job coordinates: files hold no pose. */
async function write({ item: row, on, format, path }: Extract<HelperTask, { task: 'write' }>): Promise<HelperResult['write']> {
  const item = await load(row)
  const d = item.data
  let parts: Iterable<Uint8Array>
  let ending = 'csv'
  if (d.kind === 'field') {
    if (!on) throw new OakError('not-on-tray', 'The part this table belongs to is not on the tray any more.', { remedy: 'Step back to where it was.' })
    parts = writeFieldCsv(d, await load(on))
  } else if (d.kind === 'markers') parts = [new TextEncoder().encode(writePlacedMarkers(d, item.pose))]
  else {
    const known = WRITABLE.find((f) => f === format)
    if (!known) throw new OakError('wrong-format', `Files of the format “${format}” are not written.`, { remedy: `Choose one of: ${WRITABLE.join(', ')}.` })
    ending = known
    parts = writeAny(known, d.kind === 'mesh' ? transformMesh(d, item.pose) : placePoints(d, item.pose), item.name)
  }
  const fd = openSync(path, 'wx', 0o600)
  try {
    let bytes = 0
    for (const p of parts) {
      // one call may write less than all of it
      for (let at = 0; at < p.length;) at += writeSync(fd, p, at)
      bytes += p.length
    }
    return { ending, bytes }
  } finally {
    closeSync(fd)
  }
}
