import { Readable } from 'node:stream'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import type { FloorChoice } from '@oak-gauge/core/capture/floor.ts'
import { inAxesOfMap } from '@oak-gauge/core/capture/holder.ts'
import type { LiveOptions } from '@oak-gauge/core/capture/livetracker.ts'
import { recordingHead } from '@oak-gauge/core/formats/recording.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { storeFile } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import type { ScannerRow, SessionRow } from '../db/scannermodels.ts'
import { enqueueFile } from '../ledger/enqueue.ts'
import type { RecordedWith } from '@oak-gauge/contract'
import type { Stage } from '../markers/stage.ts'
import type { Queue } from '../queue.ts'
import { storedFrames } from '../sessions/framelog.ts'
import { records } from './records.ts'

export interface CaptureOptions {
  job: string
  setup: string
  name: string
  by: NonNullable<LiveOptions['by']>
  spacing: number
  /** points nearer or farther away count for nothing, mm */
  near: number | null
  far: number | null
  /** what lies beneath is neither shown nor part of the pass; raise: mm */
  floor: 'none' | FloorChoice['floor']
  floorMarkers: string[]
  raise: number
  /** noise of a point across its surface at the ideal distance, mm */
  noise: number
  /** its frames are single lines */
  lines: boolean
  /** those as ordered data as well, mm */
  ordered?: { along: number; gap: number } | undefined
  map: { markers: Markers; slot: string } | null
  stereo: Stereo
  calibration: string
  /** to which a turntable is turned for a shot, degrees */
  angles: number[]
  /** before a stand-in */
  stage: Stage | null
}

/** What limits were set, and what floor, as a step has them. */
const limitsOf = ({ near, far, floor, floorMarkers, raise }: CaptureOptions) => ({
  ...(near === null ? {} : { near }),
  ...(far === null ? {} : { far }),
  ...(floor === 'none' ? {} : { floor, raise, ...(floor === 'markers' ? { floorMarkers } : {}) }),
})

/** Whether the axes in which it grows are those of its map. */
export const inMap = (o: CaptureOptions): boolean => o.map !== null && inAxesOfMap(o.by)

/** The recording becomes a file of the job, and the pass a step of its ledger, whose id this gives: one step, however often it is tried. */
export async function storePass(
  db: Database,
  queue: Queue,
  record: SessionRow,
  scanner: ScannerRow,
  o: CaptureOptions,
  without: readonly [number, number][],
  recordedWith: RecordedWith,
): Promise<string> {
  const name = `${o.name}.frames`
  const file = await storeFile(db.pool, name, Readable.from(whole(db, record, scanner, o)))
  const step = await enqueueFile(queue, o.job, {
    operation: 'solve-recording',
    id: file.id,
    name,
    role: 'pass',
    setup: o.setup,
    params: {
      name: o.name,
      by: o.by,
      spacing: o.spacing,
      ...limitsOf(o),
      ...(o.ordered ? { ordered: o.ordered } : {}),
      ...(without.length ? { without } : {}),
    },
    inputs: o.map && inMap(o) ? { map: [o.map.slot] } : {},
    recordedWith,
    // of the session's own number
    request: record.id,
  })
  await scanner.update({ usedAt: new Date() })
  return step.id
}

/** The file, as docs/formats.md describes it. */
async function* whole(db: Database, record: SessionRow, scanner: ScannerRow, o: CaptureOptions): AsyncGenerator<Uint8Array> {
  const { own, range } = scanner.spec
  const { near, ideal, far } = range
  const head = { scanner: scanner.name, calibration: o.calibration, optics: o.stereo, range: { near, ideal, far }, noise: o.noise, lines: o.lines }
  yield recordingHead({ ...head, ...(own ? { own } : {}) })
  for await (const list of storedFrames(db.pool, record.id, records)) yield* list
}
