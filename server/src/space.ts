import { statfs } from 'node:fs/promises'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Database } from './db/connect.ts'

/** Bytes of the disk that the database lies on. */
export interface Space {
  free: number
  total: number
}

/** PostgreSQL itself wants room for its journal. */
const RESERVE = 256e6
/** ms for which an answer is good */
const FRESH = 5000

/** Looks at the disk of a database on this machine. Null of one elsewhere, or where nobody may look. */
export function watchSpace(db: Database): () => Promise<Space | null> {
  const here = ['127.0.0.1', 'localhost', '[::1]'].includes(new URL(db.url).hostname)
  let last: { at: number; space: Promise<Space | null> } | undefined
  const look = async (): Promise<Space | null> => {
    try {
      const { rows } = await db.pool.query<{ data_directory: string }>('show data_directory')
      const { bavail, blocks, bsize } = await statfs(rows[0].data_directory)
      return { free: bavail * bsize, total: blocks * bsize }
    } catch {
      return null
    }
  }
  return () => {
    if (!here) return Promise.resolve(null)
    if (!last || Date.now() - last.at > FRESH) last = { at: Date.now(), space: look() }
    return last.space
  }
}

/** Throws 'disk-full' when a file of so many bytes, and what is made of it, would leave too little room. */
export function mustFit(space: Space | null, bytes: number, name: string): void {
  // the file, and its points and triangles as numbers
  const needs = 2 * bytes + RESERVE
  if (space && space.free < needs)
    throw new OakError('disk-full', `The file needs ${size(needs)} of room; ${size(space.free)} are free where the database lies.`, {
      where: name,
      remedy: 'Make room: delete jobs that are done with (back them up first), or move other things away.',
    })
}
const size = (bytes: number) => (bytes >= 1e9 ? `${(bytes / 1e9).toFixed(1)} GB` : `${Math.round(bytes / 1e6)} MB`)
