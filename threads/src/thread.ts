import { parentPort } from 'node:worker_threads'
import '@oak-gauge/core/kernels.ts'
import { sendError } from '@oak-gauge/core/base/errors.ts'
import { runKernel } from '@oak-gauge/core/base/run.ts'
import type { ToThread } from './pool.ts'

/** A compute thread: keeps the arguments of the running map, and answers chunk by chunk. */
const args = new Map<number, { kernel: string; args: unknown }>()
const port = parentPort
if (!port) throw new Error('thread.ts runs as a worker thread only')
port.on('message', (m: ToThread) => {
  if (m.kind === 'begin') args.set(m.map, { kernel: m.kernel, args: m.args })
  else if (m.kind === 'end') args.delete(m.map)
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
