import { createHash, randomUUID } from 'node:crypto'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type pg from 'pg'
import { from as copyFrom, to as copyTo } from 'pg-copy-streams'
import { QueryTypes, type Sequelize, type Transaction } from 'sequelize'
import { f32, u32, u8 } from '@oak-gauge/core/base/arrays.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { ByteSource } from '@oak-gauge/core/formats/source.ts'
import type { ArrayRef } from './db/models.ts'

const CHUNK = 4 * 1024 * 1024
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/

type AnyArray = Float32Array | Uint32Array | Uint8Array

const bytesOf = (a: AnyArray) => Buffer.from(a.buffer as ArrayBuffer, a.byteOffset, a.byteLength)

/** Stores an array unless the same bytes are stored already; either way they stay until the caller's transaction ends, which is to say who wants them. */
export async function storeArray(db: Sequelize, a: AnyArray, transaction: Transaction): Promise<ArrayRef> {
  const bytes = bytesOf(a)
  const sha = createHash('sha256').update(bytes).digest('hex')
  const ref: ArrayRef = { sha, type: a instanceof Float32Array ? 'f32' : a instanceof Uint32Array ? 'u32' : 'u8', length: a.length }
  const id = randomUUID()
  for (;;) {
    const made = await db.query('insert into blob (id, sha256, bytes) values ($1, $2, $3) on conflict (sha256) do nothing returning id', {
      bind: [id, sha, bytes.length],
      type: QueryTypes.SELECT,
      transaction,
    })
    if (made.length) break
    // there already; unless it was swept away just now
    if (await hold(db, sha, transaction)) return ref
  }
  for (let n = 0; n * CHUNK < bytes.length; n++)
    await db.query('insert into blob_chunk (blob_id, n, data) values ($1, $2, $3)', {
      bind: [id, n, bytes.subarray(n * CHUNK, (n + 1) * CHUNK)],
      transaction,
    })
  return ref
}

/** Keeps a stored array until the caller's transaction ends. False when it is not there. */
async function hold(db: Sequelize, sha: string, transaction: Transaction): Promise<boolean> {
  return (await db.query('select 1 from blob where sha256 = $1 for key share', { bind: [sha], type: QueryTypes.SELECT, transaction })).length > 0
}

/** One chunk, by COPY straight from the pieces: put together and copied into a statement first, files of gigabytes keep the garbage collector of a server busy. */
async function appendChunk(pool: pg.Pool, id: string, n: number, pieces: Uint8Array[], bytes: number): Promise<void> {
  const client = await pool.connect()
  let broken: Error | undefined
  try {
    await client.query('begin')
    await pipeline(
      Readable.from(copyRow(id, n, pieces, bytes), { objectMode: false }),
      client.query(copyFrom('copy blob_chunk (blob_id, n, data) from stdin binary')),
    )
    await client.query('update blob set bytes = bytes + $2, touched_at = now() where id = $1', [id, bytes])
    await client.query('commit')
  } catch (e) {
    broken = e as Error
    throw e
  } finally {
    client.release(broken)
  }
}

/** COPY's binary form of a row: a header of 19 bytes, the count of columns, each column behind its length, and -1 at the end. */
function* copyRow(id: string, n: number, pieces: Uint8Array[], bytes: number): Generator<Uint8Array> {
  const head = Buffer.alloc(19 + 2 + 20 + 8 + 4)
  head.write('PGCOPY\n\xff\r\n\0', 'latin1')
  head.writeInt16BE(3, 19)
  head.writeInt32BE(16, 21)
  head.write(id.replaceAll('-', ''), 25, 'hex')
  head.writeInt32BE(4, 41)
  head.writeInt32BE(n, 45)
  head.writeInt32BE(bytes, 49)
  yield head
  yield* pieces
  yield Buffer.from([0xff, 0xff])
}

/**
 * Writes what arrives behind what a blob holds already; memory stays at one chunk, and no connection is held while the other side is silent. What had come
 * before a stream breaks off stays. heard: sees every piece. Returns the bytes that were written.
 */
export async function append(pool: pg.Pool, id: string, stream: AsyncIterable<Uint8Array>, heard: (piece: Uint8Array) => unknown): Promise<number> {
  const last = await pool.query<{ n: number }>('select coalesce(max(n) + 1, 0)::int as n from blob_chunk where blob_id = $1', [id])
  let { n } = last.rows[0]
  let total = 0
  let parts: Uint8Array[] = []
  let have = 0
  const flush = async () => {
    if (!have) return
    const chunk = parts
    parts = []
    total += have
    await appendChunk(pool, id, n++, chunk, have)
    have = 0
  }
  try {
    for await (const piece of stream) {
      heard(piece)
      parts.push(piece)
      have += piece.length
      if (have >= CHUNK) await flush()
    }
  } finally {
    await flush()
  }
  return total
}

export const beginFile = async (pool: pg.Pool, name: string): Promise<string> => {
  const id = randomUUID()
  await pool.query('insert into blob (id, name) values ($1, $2)', [id, name])
  return id
}

/** A file that has come whole: the same bytes are kept once. Returns the blob that holds them from now on; when it is another one, this one may be dropped. */
export async function endFile(pool: pg.Pool, id: string, sha: string): Promise<string> {
  const same = await pool.query<{ id: string }>('update blob set touched_at = now() where sha256 = $1 and id <> $2 returning id', [sha, id])
  if (same.rows[0]) return same.rows[0].id
  const is = (as: string) => pool.query('update blob set sha256 = $2, touched_at = now() where id = $1', [id, as])
  try {
    await is(sha)
  } catch (e) {
    // the same file came in twice at the same moment: both copies may stay, this one under its id alone
    if ((e as { code?: string }).code !== '23505') throw e
    await is(`${sha}-${id}`)
  }
  return id
}

export const dropFile = async (pool: pg.Pool, id: string): Promise<void> => void (await pool.query('delete from blob where id = $1', [id]))

/** Streams a whole file into the database as it arrives. Nothing is left of one that breaks off. */
export async function storeFile(pool: pg.Pool, name: string, stream: AsyncIterable<Uint8Array>): Promise<{ id: string; bytes: number }> {
  const id = await beginFile(pool, name)
  const hash = createHash('sha256')
  try {
    const bytes = await append(pool, id, stream, (piece) => hash.update(piece))
    const kept = await endFile(pool, id, hash.digest('hex'))
    if (kept !== id) await dropFile(pool, id)
    return { id: kept, bytes }
  } catch (e) {
    await dropFile(pool, id).catch(() => undefined)
    throw e
  }
}

/** SHA-256 of a file that came in several parts. */
export async function digest(pool: pg.Pool, id: string): Promise<string> {
  const hash = createHash('sha256')
  for await (const piece of readBlob(pool, id)) hash.update(piece)
  return hash.digest('hex')
}

/** Bytes that are held for a reader who may be slow, or may have stopped reading. */
const PIECE = 512 * 1024

/** Bytes of a blob in order for whoever may stop listening: piece by piece, no connection held in between. */
export async function* sendBlob(pool: pg.Pool, id: string): AsyncGenerator<Buffer> {
  for (let n = 0; ; n++)
    for (let from = 1; ; from += PIECE) {
      const r = await pool.query<{ data: Buffer }>('select substring(data from $3 for $4) as data from blob_chunk where blob_id = $1 and n = $2', [
        id,
        n,
        from,
        PIECE,
      ])
      const piece = r.rows.at(0)?.data
      if (!piece) return
      if (piece.length) yield piece
      if (piece.length < PIECE) break
    }
}

/** Bytes of a blob in order, by one COPY (three times as fast as row by row), which holds a connection: for readers that do not stall. One that stops early ends the connection. */
export async function* readBlob(pool: pg.Pool, id: string): AsyncGenerator<Buffer> {
  if (!UUID.test(id)) throw new Error('not a blob id')
  const client = await pool.connect()
  let clean = false
  try {
    const stream = client.query(copyTo(`copy (select data from blob_chunk where blob_id = '${id}' order by n) to stdout binary`))
    yield* stripCopyFrame(stream)
    clean = true
  } finally {
    client.release(!clean)
  }
}

/** Takes COPY's binary frame off: a header of 19 bytes, then for each row int16 count, int32 length, bytes; int16 -1 at the end. */
async function* stripCopyFrame(stream: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
  let held: Buffer = Buffer.alloc(0)
  let skip = 19
  let left = 0
  for await (const piece of stream) {
    let b = held.length ? Buffer.concat([held, piece]) : piece
    held = Buffer.alloc(0)
    for (;;) {
      if (skip) {
        const k = Math.min(skip, b.length)
        b = b.subarray(k)
        skip -= k
        if (skip) break
      }
      if (left) {
        if (!b.length) break
        const k = Math.min(left, b.length)
        yield b.subarray(0, k)
        b = b.subarray(k)
        left -= k
        if (left) break
      }
      if (b.length >= 2 && b.readInt16BE(0) === -1) return
      if (b.length < 6) {
        held = b
        break
      }
      left = b.readInt32BE(2)
      b = b.subarray(6)
    }
  }
}

/** Reads a stored array into shared memory. Throws OakError 'lost' when it is not there. */
export async function loadArray(pool: pg.Pool, ref: ArrayRef): Promise<AnyArray> {
  const found = await pool.query<{ id: string; bytes: string }>('select id, bytes from blob where sha256 = $1', [ref.sha])
  const row = found.rows[0]
  if (!row)
    throw new OakError('lost', 'Stored numbers are missing from the database.', {
      where: ref.sha.slice(0, 12),
      remedy: 'Restore the database from a backup, or run the step again.',
    })
  const out = ref.type === 'f32' ? f32(ref.length) : ref.type === 'u32' ? u32(ref.length) : u8(ref.length)
  const bytes = new Uint8Array(out.buffer)
  let at = 0
  for await (const piece of readBlob(pool, row.id)) {
    bytes.set(piece, at)
    at += piece.length
  }
  if (at !== bytes.length)
    throw new OakError('lost', 'Stored numbers are incomplete in the database.', {
      where: ref.sha.slice(0, 12),
      remedy: 'Restore the database from a backup, or run the step again.',
    })
  return out
}

/** A stored file as a source for the readers. */
export async function fileSource(pool: pg.Pool, id: string, name: string): Promise<ByteSource> {
  const found = await pool.query<{ bytes: string }>('select bytes from blob where id = $1', [id])
  if (!found.rows[0]) throw new OakError('lost', 'The file is not in the database any more.', { where: name, remedy: 'Bring the file in again.' })
  return { name, size: Number(found.rows[0].bytes), chunks: () => readBlob(pool, id) }
}

/** What is said of a step whose numbers were swept away between being found and being used: the database refuses it. */
export const isSwept = (e: unknown): boolean => {
  const { code, table } = ((e as { parent?: unknown }).parent ?? e) as { code?: string; table?: string }
  return code === 'OG001' || (code === '23503' && table === 'item_blob')
}

/** An upload may be gone on with for a day after its last byte; a file that has come whole is spoken of by its step within the hour. */
const FORGOTTEN = `b.touched_at < now() - case when b.sha256 is null then interval '1 day' else interval '1 hour' end
  and not exists (select 1 from item_blob i where i.blob_id = b.id) and not exists (select 1 from step s where s.file_id = b.id)`

/** Deletes bytes that nothing speaks of any more, and uploads that nobody went on with. In a quiet moment, not in a request. */
export async function sweepBlobs(pool: pg.Pool): Promise<number> {
  await pool.query(`delete from upload u where created_at < now() - interval '1 day'
    and not exists (select 1 from blob b where b.id = u.blob_id and b.sha256 is null and b.touched_at > now() - interval '1 day')`)
  const client = await pool.connect()
  let swept = 0
  try {
    for (;;) {
      await client.query('begin')
      // whoever is about to speak of one holds it: it is left. Of those that are locked here nobody else can begin to speak, and what was said before is seen by the second statement
      const found = await client.query<{ id: string }>(`select id from blob b where ${FORGOTTEN} limit 100 for update skip locked`)
      const gone = await client.query(`delete from blob b where id = any($1) and ${FORGOTTEN}`, [found.rows.map((r) => r.id)])
      await client.query('commit')
      swept += gone.rowCount ?? 0
      if (!gone.rowCount) return swept
    }
  } catch (e) {
    await client.query('rollback').catch(() => undefined)
    throw e
  } finally {
    client.release()
  }
}
