import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import type { FromRunner, RunRequest } from './messages.ts'

/** What is cancelled gets so long to end by itself, then its thread is ended. */
const GRACE = 1500

type Done = Extract<FromRunner, { kind: 'done' }>

/** The runner thread, started again whenever it was ended or ran out of memory. One step at a time. */
export function runnerThread(url: string) {
  const file = fileURLToPath(new URL('./runner.js', import.meta.url))
  if (!existsSync(file)) throw new Error('the runner is not built: npm run build')
  let thread: Worker | undefined
  let number = 0
  return {
    run(request: Omit<RunRequest, 'id' | 'cancel'>, cancel: { onCancel(f: () => void): void }, onProgress: (done: number, phase: string) => void): Promise<Done> {
      const flag = new Int32Array(new SharedArrayBuffer(4))
      const worker = (thread ??= new Worker(file, { workerData: { url }, resourceLimits: { maxOldGenerationSizeMb: 8192 } }))
      const id = ++number
      return new Promise<Done>((resolve, reject) => {
        let timer: NodeJS.Timeout | undefined
        const over = (act: () => void) => {
          clearTimeout(timer)
          worker.removeAllListeners()
          act()
        }
        const end = (e: Error) => {
          thread = undefined
          over(() => reject(e))
          void worker.terminate()
        }
        worker.on('message', (m: FromRunner) => {
          if (m.id !== id) return
          if (m.kind === 'progress') onProgress(m.done, m.phase)
          else if (m.kind === 'done') over(() => resolve(m))
          else over(() => reject(m.problem.code === 'cancelled' ? new Cancelled() : new OakError(m.problem.code, m.problem.message, { where: m.problem.where, remedy: m.problem.remedy, cause: m.stack })))
        })
        worker.on('error', (e: Error & { code?: string }) =>
          end(e.code === 'ERR_WORKER_OUT_OF_MEMORY' ? new OakError('out-of-memory', 'The memory of this machine is not enough for this step.', { remedy: 'Thin or trim the passes, or choose a coarser cell.' }) : e),
        )
        worker.on('exit', () => end(new Error('the runner thread ended')))
        cancel.onCancel(() => {
          Atomics.store(flag, 0, 1)
          timer = setTimeout(() => end(new Cancelled()), GRACE)
        })
        worker.postMessage({ ...request, id, cancel: flag } satisfies RunRequest)
      })
    },
    async close() {
      await thread?.terminate()
    },
  }
}
