import { Zip, ZipDeflate, ZipPassThrough } from 'fflate'

export interface ToPacker {
  name: string
  file: File
}
export type FromPacker = { share: number } | { archive: Blob } | { problem: string; where: string }

/** Files that are packed already. */
const PACKED = /\.png$/i
/** bytes */
const PIECE = 1 << 20

/** In its own thread: a folder of frames may have a gigabyte. Nothing but the packed parts is held in memory. */
self.onmessage = ({ data }: MessageEvent<ToPacker[]>) => {
  void pack(data)
}

async function pack(files: ToPacker[]): Promise<void> {
  const tell = (m: FromPacker) => self.postMessage(m)
  const parts: Uint8Array<ArrayBuffer>[] = []
  const all = files.reduce((s, f) => s + f.file.size, 0)
  let done = 0
  const zip = new Zip((error, chunk) => {
    if (error) throw error
    parts.push(chunk.slice())
  })
  for (const { name, file } of files) {
    const entry = PACKED.test(name) ? new ZipPassThrough(name) : new ZipDeflate(name, { level: 1 })
    // the same files give the same bytes: what was sent halfway goes on
    entry.mtime = file.lastModified
    zip.add(entry)
    try {
      // in pieces of one length: how it is packed hangs on where they end
      for (let from = 0; from < file.size; from += PIECE) {
        const piece = new Uint8Array(await file.slice(from, from + PIECE).arrayBuffer())
        entry.push(piece)
        done += piece.length
        tell({ share: done / all })
      }
    } catch (e) {
      tell({ problem: e instanceof Error ? e.message : String(e), where: name })
      return
    }
    entry.push(new Uint8Array(0), true)
  }
  zip.end()
  tell({ archive: new Blob(parts, { type: 'application/zip' }) })
}
