import { createReadStream, mkdtempSync } from 'node:fs'
import { open, rm, type FileHandle } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Readable } from 'node:stream'
import type { ItemRow } from '../db/models.ts'
import type { Helper } from './helper.ts'
import { storedItem } from './messages.ts'

/** files kept, and their bytes together: what is looked up before it is fetched is written once */
const MOST = 8
const MOST_BYTES = 4e9

interface File {
  handle: FileHandle
  ending: string
  bytes: number
}
interface Kept {
  file: Promise<File>
  /** of those who asked, and have not said that they are done: counted at once, so that nothing is closed under them */
  readers: number
}

export interface Exported {
  ending: string
  bytes: number
  /** The file from its beginning. Read it to its end, or destroy it. */
  read(): Readable
  /** not to be read by this caller any more */
  done(): void
}

export interface Exports {
  /** An item as a file. Items never change: the same again is there already. */
  of(item: ItemRow, on: ItemRow | null, format: string): Promise<Exported>
  close(): Promise<void>
}

/**
 * Items as files, written by the helper to a folder for temporary files, and sent from there: a reader who stalls holds
 * up nothing but an open file. A file has no name once it is written, so that nothing of it outlives this process.
 */
export function keepExports(helper: Helper): Exports {
  const folder = mkdtempSync(join(tmpdir(), 'oak-gauge-exports-'))
  const kept = new Map<string, Kept>()
  let number = 0

  const write = async (item: ItemRow, on: ItemRow | null, format: string): Promise<File> => {
    const path = join(folder, String(++number))
    try {
      const { ending, bytes } = await helper.run({ task: 'write', item: storedItem(item), on: on && storedItem(on), format, path })
      return { handle: await open(path, 'r'), ending, bytes }
    } finally {
      await rm(path, { force: true })
    }
  }
  /** The oldest go that nobody reads. */
  const makeRoom = async (): Promise<void> => {
    const all = await Promise.all([...kept].map(async ([key, k]) => ({ key, k, file: await k.file.catch(() => null) })))
    let [files, bytes] = [all.length, all.reduce((s, { file }) => s + (file?.bytes ?? 0), 0)]
    for (const { key, k, file } of all) {
      if (files <= MOST && bytes <= MOST_BYTES) return
      if (!file || k.readers > 0 || kept.get(key) !== k) continue
      kept.delete(key)
      files--
      bytes -= file.bytes
      void file.handle.close()
    }
  }
  return {
    async of(item, on, format) {
      const key = `${item.id} ${format}`
      const k = kept.get(key) ?? { file: write(item, on, format), readers: 0 }
      k.readers++
      // the latest last
      kept.delete(key)
      kept.set(key, k)
      let reading = true
      const done = () => {
        if (reading) k.readers--
        reading = false
      }
      try {
        const { handle, ending, bytes } = await k.file
        void makeRoom()
        return { ending, bytes, done, read: () => createReadStream('', { fd: handle.fd, start: 0, autoClose: false, highWaterMark: 256 * 1024 }) }
      } catch (e) {
        done()
        if (kept.get(key) === k) kept.delete(key)
        throw e
      }
    },
    async close() {
      await helper.close()
      for (const { file } of kept.values()) await file.then((f) => f.handle.close()).catch(() => undefined)
      await rm(folder, { recursive: true, force: true })
    },
  }
}
