import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import type { FromRunner, RunRequest } from './messages.ts'

/** What is cancelled gets so long to end by itself, then its thread is ended. */
const GRACE = 1500

type Done = Extract<FromRunner, { kind: 'done' }>

interface Running {
  id: number
  onProgress(done: number, phase: string): void
  resolve(m: Done): void
  reject(e: Error): void
  timer?: NodeJS.Timeout
}

/** The runner thread, started again whenever it was ended or ran out of memory. One step at a time. */
export function runnerThread(url: string) {
  const file = fileURLToPath(new URL('./runner.js', import.meta.url))
  if (!existsSync(file)) throw new Error('the runner is not built: npm run build')
  let thread: Worker | undefined
  let running: Running | undefined
  let number = 0

  const over = (): Running | undefined => {
    const r = running
    running = undefined
    clearTimeout(r?.timer)
    return r
  }
  /** The thread is of no more use: what it was at fails with this. */
  const end = (worker: Worker, e: Error) => {
    if (thread !== worker) return
    thread = undefined
    void worker.terminate()
    over()?.reject(e)
  }
  const begin = (): Worker => {
    const worker = new Worker(file, { workerData: { url }, resourceLimits: { maxOldGenerationSizeMb: 8192 } })
    worker.on('message', (m: FromRunner) => {
      if (m.id !== running?.id) return
      if (m.kind === 'progress') running.onProgress(m.done, m.phase)
      else if (m.kind === 'done') over()?.resolve(m)
      else {
        const { code, detail, where, remedy } = m.problem
        over()?.reject(code === 'cancelled' ? new Cancelled() : new OakError(code, detail, { where, remedy, cause: m.stack }))
      }
    })
    worker.on('error', (e: Error & { code?: string }) =>
      end(
        worker,
        e.code === 'ERR_WORKER_OUT_OF_MEMORY'
          ? new OakError('out-of-memory', 'The memory of this machine is not enough for this step.', {
              remedy: 'Thin or trim the passes, or choose a coarser cell.',
            })
          : e,
      ),
    )
    worker.on('exit', () => end(worker, new Error('the runner thread ended')))
    return worker
  }

  return {
    run(request: Omit<RunRequest, 'id' | 'cancel'>, cancel: { onCancel(f: () => void): void }, onProgress: Running['onProgress']): Promise<Done> {
      const flag = new Int32Array(new SharedArrayBuffer(4))
      const worker = (thread ??= begin())
      return new Promise<Done>((resolve, reject) => {
        const mine: Running = { id: ++number, onProgress, resolve, reject }
        running = mine
        cancel.onCancel(() => {
          Atomics.store(flag, 0, 1)
          mine.timer ??= setTimeout(() => {
            if (running === mine) end(worker, new Cancelled())
          }, GRACE)
        })
        worker.postMessage({ ...request, id: mine.id, cancel: flag } satisfies RunRequest)
      })
    },
    /** What it is at fails with an error of no kind. */
    close() {
      if (thread) end(thread, new Error('the worker ends'))
    },
  }
}
