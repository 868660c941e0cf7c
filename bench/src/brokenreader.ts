import { parentPort } from 'node:worker_threads'
import { cadProcess } from '@oak-gauge/cad'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { readMarkerRecording, readMarkers } from '@oak-gauge/core/formats/markers.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'

/** The limits that the benchmark asks for: a file that meets them counts. */
const ctx = { ...quietContext, cad: cadProcess({ seconds: 10, megabytes: 1000 }) }

/** How a thread that was given a damaged file fared. */
export interface Answer {
  how: 'read' | 'refused' | 'crashed'
  what: string
  /** memory of the process, bytes */
  rss: number
}

parentPort?.on('message', ({ name, bytes }: { name: string; bytes: Uint8Array }) => {
  const decode = () => new TextDecoder().decode(bytes)
  const read = async () => {
    if (name === 'list.markers') readMarkers(decode(), name)
    else if (name === 'frames.recording') readMarkerRecording(decode(), name)
    else await readAny(bytesSource(name, bytes, 4096), ctx)
  }
  const answer = (how: Answer['how'], what = '') => parentPort?.postMessage({ how, what, rss: process.memoryUsage().rss } satisfies Answer)
  read().then(
    () => answer('read'),
    (e: unknown) => (e instanceof OakError && e.message && e.remedy ? answer('refused', e.code) : answer('crashed', String((e as Error).stack))),
  )
})
