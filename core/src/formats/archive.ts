import { unzipSync, type UnzipFileInfo } from 'fflate'
import { OakError } from '../base/errors.ts'

/** of one file, unpacked, bytes */
const LARGEST = 512 * 1024 ** 2
/** unpacked bytes allowed: points shrink by 2 to 20, a bomb by 1000 */
const allowed = (packed: number) => 64 * 1024 ** 2 + 60 * packed
/** unpacked at a time: the list of an archive is gone through for each of them */
const TOGETHER = 64 * 1024 ** 2
const MOST_TOGETHER = 200

/** Whether bytes are the beginning of a zip archive. */
export const isArchive = (first: Uint8Array): boolean => first[0] === 0x50 && first[1] === 0x4b && first[2] === 3 && first[3] === 4

export interface Archive {
  /** but folders, and what systems put beside files */
  names: string[]
  read(name: string): Uint8Array
  /** Some files, one after the other, in the order that is asked for. */
  each(names: readonly string[]): Generator<Uint8Array>
}

/** A zip archive that is in memory. Throws OakError 'bad-archive' where it is damaged, 'zip-bomb' where a file unpacks to more than any real one. */
export function openArchive(bytes: Uint8Array, where: string): Archive {
  const unzip = (filter: (f: UnzipFileInfo) => boolean) => {
    try {
      return unzipSync(bytes, { filter })
    } catch (e) {
      if (e instanceof OakError) throw e
      throw new OakError('bad-archive', `The archive is damaged (${e instanceof Error ? e.message : 'unreadable'}).`, {
        where,
        remedy: 'Pack it again, or copy it again.',
      })
    }
  }
  const sizes = new Map<string, number>()
  unzip((f) => {
    if (f.name.endsWith('/') || /(^|\/)(__MACOSX|\.)/.test(f.name)) return false
    if (f.originalSize > LARGEST || f.originalSize > allowed(f.size))
      throw new OakError('zip-bomb', `${f.name} unpacks to ${Math.round(f.originalSize / 1e6)} MB.`, {
        where,
        remedy: 'A file in an archive has 512 MB at the most.',
      })
    sizes.set(f.name, f.originalSize)
    return false
  })
  return {
    names: [...sizes.keys()],
    read: (name) => unzip((f) => f.name === name)[name],
    *each(names) {
      for (let from = 0; from < names.length;) {
        let [to, size] = [from, 0]
        while (to < names.length && to < from + MOST_TOGETHER && (to === from || size + (sizes.get(names[to]) ?? 0) <= TOGETHER))
          size += sizes.get(names[to++]) ?? 0
        const wanted = new Set(names.slice(from, to))
        const got = unzip((f) => wanted.has(f.name))
        for (; from < to; from++) yield got[names[from]]
      }
    },
  }
}
