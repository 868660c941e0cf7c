import { fork } from 'node:child_process'
import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import type { CadKernel, CadShape } from '@oak-gauge/core/base/cad.ts'
import { Cancelled, OakError, receiveError } from '@oak-gauge/core/base/errors.ts'
import type { FromCad, ToCad } from './process.ts'

/**
 * The CAD kernel in a process of its own, a new one for each file: after a damaged one it may hang, and what it takes of memory goes with it.
 * seconds, megabytes: limits, after which the file is refused. file: the built process.
 */
export function cadProcess({ seconds = 180, megabytes = 4000, file = builtProcess() } = {}): CadKernel {
  return {
    read: (bytes, { chord, origin }, signal) =>
      new Promise<CadShape>((resolve, reject) => {
        if (!file) {
          reject(new OakError('no-cad', 'The CAD kernel is not built.', { remedy: 'Run npm run build.' }))
          return
        }
        const child = fork(file, { serialization: 'advanced', stdio: ['ignore', 'ignore', 'ignore', 'ipc'], execArgv: [] })
        const done = (settle: () => void) => {
          clearInterval(watching)
          child.removeAllListeners()
          // its own end is no news any more
          child.on('error', () => undefined)
          child.kill('SIGKILL')
          settle()
        }
        const watching = setInterval(() => {
          if (signal.aborted) done(() => reject(new Cancelled()))
        }, 100)
        child.on('message', (m: FromCad) => done(() => ('shape' in m ? resolve(m.shape) : reject(receiveError(m.error)))))
        child.on('error', (e) => done(() => reject(broken(e.message))))
        child.on('exit', (code, signal) => done(() => reject(broken(signal ?? `code ${code}`))))
        child.send({ bytes, seconds, megabytes, ...(chord === undefined ? {} : { chord }), ...(origin ? { origin } : {}) } satisfies ToCad)
      }),
  }
}

const broken = (how: string) =>
  new OakError('bad-step', `The CAD kernel’s process ended while it read the file (${how}).`, { remedy: 'Export it again as AP214 or AP242, with solids.' })

/** The built process beside this bundle. */
function builtProcess(): string | undefined {
  const here = fileURLToPath(new URL('./cad.js', import.meta.url))
  return existsSync(here) ? here : undefined
}
