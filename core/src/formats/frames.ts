import type { RunContext } from '../base/run.ts'
import { isArchive } from './archive.ts'
import { readFrameFolder } from './framefolder.ts'
import type { Unit } from './imported.ts'
import { readRecording, type Frames } from './recording.ts'
import type { ByteSource } from './source.ts'

/** Frames from whatever they were brought in as, told by its first bytes: a recording, or files in an archive. unit: where nothing else says one. Throws what their readers throw. */
export async function readFrames(source: ByteSource, unit: Unit | undefined, ctx: RunContext): Promise<Frames> {
  let first: Uint8Array = new Uint8Array(0)
  for await (const c of source.chunks()) {
    first = c
    break
  }
  if (isArchive(first)) return readFrameFolder(source, unit, ctx)
  const { head, frames } = await readRecording(source)
  const { noise, own, optics, lines } = head
  return { noise, lines, frames, warnings: [], ...(own ? { own } : {}), ...(optics ? { optics } : {}) }
}
