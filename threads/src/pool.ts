import { existsSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { fileURLToPath } from 'node:url'
import { setFlagsFromString } from 'node:v8'
import { runInNewContext } from 'node:vm'
import { Worker } from 'node:worker_threads'
import { Cancelled, OakError, receiveError, type SentError } from '@oak-gauge/core/base/errors.ts'
import { oneThread, quietContext, type Kernel, type Parallel, type RunContext } from '@oak-gauge/core/base/run.ts'

export type ToThread =
  | { kind: 'begin'; map: number; kernel: string; args: unknown }
  | { kind: 'chunk'; map: number; index: number; start: number; end: number }
  | { kind: 'end'; map: number }
interface FromThread {
  map: number
  index: number
  result?: unknown
  error?: SentError
}

export interface ThreadPool extends Parallel {
  /** One piece of work on a thread, however small: for hosts whose own thread must stay free (a server's). */
  away<A, R>(kernel: Kernel<A, R>, args: A): Promise<R>
  close(): Promise<void>
}

/** Lets the core ask this thread's engine to collect what is let go (base/arrays.ts). Not for a thread that answers others: a collection takes it some hundredths of a second. */
export function letCollect(): void {
  setFlagsFromString('--expose-gc')
  ;(globalThis as { gc?: () => void }).gc ??= runInNewContext('gc') as () => void
}

/**
 * Threads of this process that run kernels on shared memory. Chunks go to whichever thread is free, results come back
 * in order. Work too small to be worth the trip stays on the calling thread. The threads live until close(), or until one of
 * them dies (of memory): then all are ended, and the next work starts new ones.
 * file: the built thread; without one everything stays on the calling thread.
 */
export function threadPool(threads = availableParallelism(), file = threadFile()): ThreadPool {
  if (threads < 2 || !file)
    return {
      ...oneThread,
      away: async (kernel, args) => (await oneThread.map(kernel, args, 1, 1, quietContext))[0],
      close: () => Promise.resolve(),
    }
  const workers: Worker[] = []
  let maps = 0
  // several may be under way: the threads keep the process alive until the last has ended
  let open = 0
  const start = () => {
    setFlagsFromString('--expose-gc')
    while (workers.length < threads) {
      const w = new Worker(file)
      w.setMaxListeners(0)
      w.unref()
      workers.push(w)
    }
  }
  const pool: ThreadPool = {
    threads,
    map(kernel, args, count, chunk, ctx, onDone) {
      return count <= chunk ? oneThread.map(kernel, args, count, chunk, ctx, onDone) : spread(kernel, args, count, chunk, ctx, onDone)
    },
    away: async (kernel, args) => (await spread(kernel, args, 1, 1, quietContext))[0],
    async close() {
      await Promise.all(workers.splice(0).map((w) => w.terminate()))
    },
  }
  return pool

  function spread<A, R>(kernel: Kernel<A, R>, args: A, count: number, chunk: number, ctx: RunContext, onDone?: (d: number) => void): Promise<R[]> {
    start()
    const map = ++maps
    const chunks = Math.ceil(count / chunk)
    const results = new Array<R>(chunks)
    return new Promise<R[]>((resolve, reject) => {
      let next = 0
      let done = 0
      let over = false
      const finish = (act: () => void) => {
        if (over) return
        over = true
        open--
        workers.forEach((w, i) => {
          w.postMessage({ kind: 'end', map } satisfies ToThread)
          w.off('message', listeners[i])
          w.off('error', onError)
          w.off('exit', onExit)
          if (open === 0) w.unref()
        })
        act()
      }
      const give = (w: Worker) => {
        if (next >= chunks) return
        const index = next++
        w.postMessage({ kind: 'chunk', map, index, start: index * chunk, end: Math.min(count, (index + 1) * chunk) } satisfies ToThread)
      }
      const onError = (e: unknown) =>
        finish(() => {
          for (const w of workers.splice(0)) void w.terminate()
          reject(e instanceof Error ? e : new Error(String(e)))
        })
      const onExit = () =>
        onError(
          new OakError('thread-ended', 'A thread ended in the middle of its work.', {
            remedy: 'Most often memory is short: close other programs, or thin the passes.',
          }),
        )
      const listeners = workers.map((w) => (m: FromThread) => {
        if (m.map !== map || over) return
        if (m.error !== undefined) return finish(() => reject(receiveError(m.error as SentError)))
        if (ctx.signal.aborted) return finish(() => reject(new Cancelled()))
        results[m.index] = m.result as R
        done++
        onDone?.(done / chunks)
        if (done === chunks) finish(() => resolve(results))
        else give(w)
      })
      open++
      workers.forEach((w, i) => {
        w.ref()
        w.on('message', listeners[i])
        w.on('error', onError)
        w.on('exit', onExit)
        w.postMessage({ kind: 'begin', map, kernel: kernel.name, args } satisfies ToThread)
        // two in hand, so that a thread never waits for its next
        give(w)
        give(w)
      })
    })
  }
}

/** The built thread beside this bundle; without one (tests from source) everything stays on the calling thread. */
function threadFile(): string | undefined {
  const here = fileURLToPath(new URL('./thread.js', import.meta.url))
  return existsSync(here) ? here : undefined
}
