import { isMainThread, parentPort, Worker, workerData } from 'node:worker_threads'
import type { CadShape } from '@oak-gauge/core/base/cad.ts'
import { OakError, sendError, type SentError } from '@oak-gauge/core/base/errors.ts'
import { readShape } from './kernel.ts'

export interface ToCad {
  bytes: Uint8Array
  chord?: number
  origin?: readonly [number, number, number]
  seconds: number
  megabytes: number
}
export type FromCad = { shape: CadShape } | { error: SentError }

/** The CAD kernel's own process: a thread reads, the first one watches time and memory, and ends with whoever asked. */
if (isMainThread) {
  process.on('disconnect', () => process.exit(1))
  process.once('message', (m) => watch(m as ToCad))
} else {
  const { bytes, chord, origin } = workerData as ToCad
  readShape(bytes, { ...(chord === undefined ? {} : { chord }), ...(origin ? { origin } : {}) }).then(
    (shape) => parentPort?.postMessage({ shape } satisfies FromCad),
    (e: unknown) => parentPort?.postMessage(failed(e)),
  )
}

function failed(e: unknown): FromCad {
  return { error: sendError(e instanceof OakError ? e : new OakError('bad-step', `The CAD kernel broke down on the file (${String(e)}).`, REPAIR)) }
}

const REPAIR = { remedy: 'Export it again as AP214 or AP242, with solids, and the part alone.' }

function watch(job: ToCad): void {
  let over = false
  const end = (m: FromCad) => {
    if (over) return
    over = true
    process.send?.(m, undefined, undefined, () => process.exit(0))
  }
  const reader = new Worker(new URL(import.meta.url), { workerData: job })
  reader.on('message', end)
  reader.on('error', (e) => end(failed(e)))
  reader.on('exit', () => end(failed('it ended without a word')))
  setTimeout(() => end(failed(new OakError('cad-time', `The CAD kernel was not done with the file after ${job.seconds} s.`, REPAIR))), 1000 * job.seconds)
  setInterval(() => {
    const used = process.memoryUsage.rss() / 1e6
    if (used > job.megabytes)
      end(failed(new OakError('cad-memory', `The CAD kernel needs more than the ${job.megabytes} MB it may have for the file.`, REPAIR)))
  }, 100)
}
