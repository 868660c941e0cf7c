import { parentPort } from 'node:worker_threads'
import '@oak-gauge/core/kernels.ts'
import { sendError } from '@oak-gauge/core/base/errors.ts'
import { runKernel } from '@oak-gauge/core/base/run.ts'
import type { ToThread } from './pool.ts'

/** A compute thread: keeps the arguments of the running map, and answers chunk by chunk. */
const args = new Map<number, { kernel: string; args: unknown }>()
/** Shared memory that was let go since the last collection: this thread makes next to nothing else, so that its engine would not collect for a long time. */
let loose = 0
const COLLECT = 2 ** 28
const port = parentPort
if (!port) throw new Error('thread.ts runs as a worker thread only')
port.on('message', (m: ToThread) => {
  if (m.kind === 'begin') args.set(m.map, { kernel: m.kernel, args: m.args })
  else if (m.kind === 'end') drop(m.map)
  else {
    try {
      const job = args.get(m.map)
      if (!job) return
      port.postMessage({ map: m.map, index: m.index, result: runKernel(job.kernel, job.args, m.start, m.end) })
    } catch (error) {
      port.postMessage({ map: m.map, index: m.index, error: sendError(error) })
    }
  }
})

function drop(map: number): void {
  loose += sharedBytes(args.get(map)?.args, 2)
  args.delete(map)
  if (loose < COLLECT) return
  loose = 0
  ;(globalThis as { gc?: () => void }).gc?.()
}

function sharedBytes(a: unknown, depth: number): number {
  if (ArrayBuffer.isView(a)) return a.byteLength
  if (!depth || typeof a !== 'object' || !a) return 0
  return Object.values(a).reduce((s: number, v) => s + sharedBytes(v, depth - 1), 0)
}
