import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { UploadTold } from '@oak-gauge/contract'
import type { JobRow } from '../db/models.ts'
import type { SessionDoor } from '../sessions/door.ts'
import { mustFit, type Space } from '../space.ts'
import type { FileToRead } from './enqueue.ts'
import { loadLedger } from './state.ts'

/** Bytes. */
export const LARGEST_FILE = 2 * 1024 ** 3 + 64 * 1024 ** 2

/** Throws OakError when a file of so many bytes is not taken, before it is sent. */
export function mustBeTaken(bytes: number, name: string, space: Space | null): void {
  if (bytes === 0) throw new OakError('empty', 'The file is empty (0 bytes).', { where: name, remedy: 'Export or copy it again.' })
  if (bytes > LARGEST_FILE)
    throw new OakError('too-large', `The file has ${(bytes / 1e9).toFixed(1)} GB; up to 2 GB are taken.`, {
      where: name,
      remedy: 'Thin the scan before exporting it, or export it in parts.',
    })
  mustFit(space, bytes, name)
}

/** A file that came for a job, as the step wants it that reads it. A pass keeps how its scanner stood when it came in. */
export async function fileNamed(
  told: Pick<UploadTold, 'name' | 'role' | 'setup' | 'unit'>,
  job: JobRow,
  id: string,
  sessions: SessionDoor,
  request: string | undefined,
): Promise<FileToRead> {
  const { role, setup, unit } = told
  const recordedWith = job.scanner && (role === undefined || role === 'pass') ? await sessions.standing(job.scanner) : null
  const file = { id, name: bareName(told.name), role, setup, unit, recordedWith, request }
  if (RECORDING.test(told.name) && (role === undefined || role === 'pass')) {
    const map = setup ? await mapOf(job.id, setup) : undefined
    return { ...file, operation: 'solve-recording', inputs: map ? { map: [map] } : {} }
  }
  return { ...file, operation: role === 'marker-map' ? 'import-markers' : 'import' }
}

/** frames as a scanner sent them, or as files in an archive: docs/formats.md */
const RECORDING = /\.(frames|zip)$/i

/** Where the map of the markers of a setup lies. */
async function mapOf(job: string, setup: string): Promise<string | undefined> {
  const { tray, slots } = await loadLedger(job)
  return [...slots.values()].findLast((s) => s.role === 'marker-map' && s.setupId === setup && tray.has(s.id))?.id
}

/** The name without the folders that some browsers put before it. */
export const bareName = (name: string): string => name.split(/[\\/]/).pop() as string
