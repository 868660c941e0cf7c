import { createHash } from 'node:crypto'
import type { Readable } from 'node:stream'
import { DataStore, Upload } from '@tus/utils'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { uploadTold, type OpenUpload, type UploadTold } from '@oak-gauge/contract'
import { append, beginFile, digest, dropFile, endFile } from './blobs.ts'
import type { Database } from './db/connect.ts'

/** A file that comes in parts. */
export interface Arriving {
  id: string
  told: UploadTold
  size: number
  /** that have come */
  bytes: number
  blob: string
  /** that reads it, once it has come whole */
  step: string | null
}

/** Makes the step that reads a file. Asked twice for one upload it is the same step. */
export type Reader = (upload: Arriving, blob: string) => Promise<string>

/**
 * Files that come in parts, for the protocol tus 1.0.0: what has come is in the database, and outlives the connection, the browser and the server. Who comes
 * back to one that is whole but was not read yet (the server ended just then) has it read.
 */
export class UploadStore extends DataStore {
  override extensions = ['creation', 'termination']
  readonly #db: Database
  readonly #reader: Reader
  /** of those that came in one go */
  readonly #digests = new Map<string, string>()

  constructor(db: Database, reader: Reader) {
    super()
    this.#db = db
    this.#reader = reader
  }

  override async create(upload: Upload): Promise<Upload> {
    const told = uploadTold.parse(upload.metadata)
    const blob = await beginFile(this.#db.pool, told.name)
    await this.#db.pool.query('insert into upload (id, job_id, blob_id, size, told) values ($1, $2, $3, $4, $5)', [
      upload.id,
      told.job,
      blob,
      upload.size,
      JSON.stringify(told),
    ])
    return upload
  }

  override async write(stream: Readable, id: string, offset: number): Promise<number> {
    const upload = await this.#open(id)
    const hash = createHash('sha256')
    const end = offset + (await append(this.#db.streams, upload.blob, stream as AsyncIterable<Uint8Array>, (piece) => hash.update(piece)))
    if (offset === 0 && end === upload.size) this.#digests.set(id, hash.digest('hex'))
    return end
  }

  override async getUpload(id: string): Promise<Upload> {
    const { size, bytes, step } = await this.#open(id)
    if (!step && bytes === size) await this.finish(id)
    return new Upload({ id, size, offset: bytes })
  }

  override async remove(id: string): Promise<void> {
    const upload = await this.#open(id)
    await this.#db.pool.query('delete from upload where id = $1', [id])
    // a file that is read stays as long as its step
    if (!upload.step) await dropFile(this.#db.pool, upload.blob)
  }

  /** Has a file read that has come whole. */
  async finish(id: string): Promise<void> {
    const { pool, streams } = this.#db
    const upload = await this.#open(id)
    if (upload.step) return
    const sha = this.#digests.get(id) ?? (await digest(streams, upload.blob))
    const kept = await endFile(pool, upload.blob, sha)
    await pool.query('update upload set blob_id = $2 where id = $1', [id, kept])
    if (kept !== upload.blob) await dropFile(pool, upload.blob)
    await pool.query('update upload set step_id = $2 where id = $1', [id, await this.#reader(upload, kept)])
    this.#digests.delete(id)
  }

  /** Those of a job that have not come whole. */
  async ofJob(job: string): Promise<OpenUpload[]> {
    const { rows } = await this.#db.pool.query<Row>(`${FIND} where u.job_id = $1 and u.step_id is null order by u.created_at`, [job])
    for (const r of rows) if (Number(r.bytes) === Number(r.size)) await this.finish(r.id)
    return rows
      .filter((r) => Number(r.bytes) < Number(r.size))
      .map(({ id, told: { name, role = null, setup = null, modified = null }, size, bytes, idle }) => ({
        ...{ id, name, role, setup, modified, idle },
        size: Number(size),
        bytes: Number(bytes),
      }))
  }

  async #open(id: string): Promise<Arriving> {
    const found = UUID.test(id) ? await this.#db.pool.query<Row>(`${FIND} where u.id = $1`, [id]) : undefined
    const row = found?.rows.at(0)
    if (!row)
      throw new OakError('not-found', 'There is no such upload (any more).', { where: id, remedy: 'Begin anew: what nobody goes on with is kept for a day.' })
    return { id, told: row.told, size: Number(row.size), bytes: Number(row.bytes), blob: row.blob_id, step: row.step_id }
  }
}

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/
const FIND = `select u.id, u.told, u.size, u.blob_id, u.step_id, b.bytes, extract(epoch from now() - b.touched_at)::float8 as idle
  from upload u join blob b on b.id = u.blob_id`
interface Row {
  id: string
  told: UploadTold
  size: string
  blob_id: string
  step_id: string | null
  bytes: string
  /** s */
  idle: number
}
