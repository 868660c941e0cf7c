import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { HelperAnswer, HelperResult, HelperTask } from './messages.ts'

/** Beside this bundle; when the server runs from its sources (tests), where it is built. */
function file(): string {
  const beside = fileURLToPath(new URL('./helper.js', import.meta.url))
  return existsSync(beside) ? beside : fileURLToPath(new URL('../../../.build/helper.js', import.meta.url))
}

export interface Helper {
  /** Tasks are done one after the other. Throws what they throw; 'out-of-memory' when the thread had not enough. */
  run<K extends HelperTask['task']>(task: Extract<HelperTask, { task: K }>): Promise<HelperResult[K]>
  close(): Promise<void>
}

/** A thread beside the event loop, begun when it is first wanted, and begun again whenever it ended. */
export function helperThread(url: string): Helper {
  let thread: Worker | undefined
  let number = 0
  const waiting = new Map<number, { resolve(v: unknown): void; reject(e: Error): void }>()
  const over = (worker: Worker, e: Error) => {
    if (thread !== worker) return
    thread = undefined
    void worker.terminate()
    const all = [...waiting.values()]
    waiting.clear()
    for (const w of all) w.reject(e)
  }
  const begin = (): Worker => {
    const worker = new Worker(file(), { workerData: { url }, resourceLimits: { maxOldGenerationSizeMb: 4096 } })
    worker.on('message', (a: HelperAnswer) => {
      const w = waiting.get(a.id)
      waiting.delete(a.id)
      // it keeps the process only while there is something to do
      if (!waiting.size) worker.unref()
      if (!('problem' in a)) return w?.resolve(a.result)
      const { code, detail, where, remedy } = a.problem
      w?.reject(new OakError(code, detail, { where, remedy, cause: a.stack }))
    })
    worker.on('error', (e: Error & { code?: string }) =>
      over(
        worker,
        e.code === 'ERR_WORKER_OUT_OF_MEMORY'
          ? new OakError('out-of-memory', 'The memory of this machine is not enough to write this file.', {
              remedy: 'Reduce the mesh first, or choose another format.',
            })
          : e,
      ),
    )
    worker.on('exit', () => over(worker, new Error('the helper thread ended')))
    return worker
  }
  return {
    run<K extends HelperTask['task']>(task: Extract<HelperTask, { task: K }>) {
      const id = ++number
      return new Promise<HelperResult[K]>((resolve, reject) => {
        waiting.set(id, { resolve: resolve, reject })
        thread ??= begin()
        thread.ref()
        thread.postMessage({ id, ...task })
      })
    },
    async close() {
      const worker = thread
      if (!worker) return
      over(worker, new Error('the server ends'))
      await worker.terminate()
    },
  }
}
