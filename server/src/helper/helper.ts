import { fork, type ChildProcess } from 'node:child_process'
import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { OWN_SESSION } from '../backseat.ts'
import type { HelperAnswer, HelperResult, HelperTask } from './messages.ts'

/** MB for what a file is written from; typed arrays are not counted */
const HEAP = 4096

/** Beside this bundle; when the server runs from its sources (tests), where it is built. */
function file(): string {
  const beside = fileURLToPath(new URL('./helper.js', import.meta.url))
  return existsSync(beside) ? beside : fileURLToPath(new URL('../../../.build/helper.js', import.meta.url))
}

export interface Helper {
  /** Tasks are done one after the other. Throws what they throw; 'out-of-memory' when the process had not enough. */
  run<K extends HelperTask['task']>(task: Extract<HelperTask, { task: K }>): Promise<HelperResult[K]>
  close(): Promise<void>
}

/**
 * A process beside the server's, begun when it is first wanted, and begun again whenever it ended. Not a thread: it gives way to everything else, and
 * whatever a thread holds while others go first (the map of the memory, above all) its whole process waits for. Measured: collecting garbage, the event loop
 * stood for 1.3 s, of which it ran for 17 ms.
 */
export function helperProcess(url: string): Helper {
  let child: ChildProcess | undefined
  let number = 0
  const waiting = new Map<number, { resolve(v: unknown): void; reject(e: Error): void }>()
  const over = (process: ChildProcess, e: Error) => {
    if (child !== process) return
    child = undefined
    const all = [...waiting.values()]
    waiting.clear()
    for (const w of all) w.reject(e)
  }
  // it keeps the server only while there is something to do
  const holds = (c: ChildProcess, yes: boolean) => {
    if (yes) c.ref()
    else c.unref()
    const channel = c.channel as { ref(): void; unref(): void } | null | undefined
    if (yes) channel?.ref()
    else channel?.unref()
  }
  const begin = (): ChildProcess => {
    const env = { ...process.env, DATABASE_URL: url, NODE_OPTIONS: '' }
    const execArgv = [`--max-old-space-size=${HEAP}`]
    const c = fork(file(), { ...OWN_SESSION, serialization: 'advanced', stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env, execArgv })
    c.on('message', (a: HelperAnswer) => {
      const w = waiting.get(a.id)
      waiting.delete(a.id)
      if (!waiting.size) holds(c, false)
      if (!('problem' in a)) return w?.resolve(a.result)
      const { code, detail, where, remedy } = a.problem
      w?.reject(new OakError(code, detail, { where, remedy, cause: a.stack }))
    })
    c.on('error', (e) => over(c, e))
    // node ends itself so when its heap is full, the system when the machine's memory is
    c.on('exit', (code, signal) =>
      over(
        c,
        signal === 'SIGABRT' || signal === 'SIGKILL' || code === 134
          ? new OakError('out-of-memory', 'The memory of this machine is not enough to write this file.', {
              remedy: 'Reduce the mesh first, or choose another format.',
            })
          : new Error(`the helper ended (${signal ?? code})`),
      ),
    )
    return c
  }
  return {
    run<K extends HelperTask['task']>(task: Extract<HelperTask, { task: K }>) {
      const id = ++number
      return new Promise<HelperResult[K]>((resolve, reject) => {
        waiting.set(id, { resolve, reject })
        const c = (child ??= begin())
        holds(c, true)
        c.send({ id, ...task }, (e) => e && over(c, e))
      })
    },
    async close() {
      const c = child
      if (!c) return
      over(c, new Error('the server ends'))
      holds(c, true)
      const ended = new Promise((resolve) => c.once('exit', resolve))
      c.kill('SIGKILL')
      await ended
    },
  }
}
