import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { FrameCodec } from './framelog.ts'

const FOLDER = join(tmpdir(), 'oak-gauge-frames')
const fileOf = (session: string) => join(FOLDER, session)

/**
 * Frames that the database does not take just now, kept on the disk for whoever takes the session over when this process ends as well before it does. n: the
 * chunk that they will be.
 */
export async function spool(session: string, n: number, frames: Buffer): Promise<void> {
  await mkdir(FOLDER, { recursive: true, mode: 0o700 })
  const head = Buffer.alloc(4)
  head.writeUInt32LE(n)
  const part = `${fileOf(session)}.part`
  await writeFile(part, Buffer.concat([head, frames]), { mode: 0o600 })
  await rename(part, fileOf(session))
}

export const dropSpool = (session: string): Promise<void> => rm(fileOf(session), { force: true })

/**
 * What was left of them, without what the database had taken though it could not say so. chunks: that it holds, the last of them with so many frames. They stay
 * on the disk until they are stored.
 */
export async function spooled<F>(session: string, chunks: number, ofLast: number, codec: FrameCodec<F>): Promise<F[]> {
  const bytes = await readFile(fileOf(session)).catch(() => null)
  if (!bytes) return []
  const n = bytes.readUInt32LE(0)
  if (n === chunks) return codec.decode(bytes.subarray(4))
  return n === chunks - 1 ? codec.decode(bytes.subarray(4)).slice(ofLast) : []
}
