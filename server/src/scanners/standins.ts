import { fork, type ChildProcess } from 'node:child_process'
import { existsSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import type { ScannerRow } from '../db/scannermodels.ts'

export type StandInState = NonNullable<ScannerRow['standIn']>

export interface RunningStandIn {
  /** where it listens */
  port: Promise<number>
  stop(): void
}

/** Beside this bundle; when the server runs from its sources (tests), where it is built. */
function file(): string {
  const beside = fileURLToPath(new URL('./standin.js', import.meta.url))
  return existsSync(beside) ? beside : fileURLToPath(new URL('../../../.build/standin.js', import.meta.url))
}

/** How much faster than the world's the clocks of stand-ins run: warming up takes half a minute, not a quarter of an hour. */
export const standInClock = () => Number(process.env['OAK_CLOCK'] ?? 30)

/** Starts the process of a stand-in. onLasting: something changed that must outlive it; onExit: it ended without being told to. */
export function startStandIn(state: StandInState, onLasting: (s: StandInState) => void, onExit: () => void): RunningStandIn {
  const { device, ...lasting } = state
  const child: ChildProcess = fork(file(), [device, '0'], {
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
    env: { ...process.env, OAK_STAND_IN: JSON.stringify(lasting), OAK_CLOCK: String(standInClock()), NODE_OPTIONS: '' },
  })
  let stopped = false
  const port = new Promise<number>((resolve, reject) => {
    child.on('message', (m: { port?: number; lasting?: Omit<StandInState, 'device'> }) => {
      if (m.port) resolve(m.port)
      if (m.lasting) onLasting({ device, ...m.lasting })
    })
    child.on('exit', () => {
      reject(new Error('the stand-in ended'))
      if (!stopped) onExit()
    })
  })
  port.catch(() => undefined)
  return {
    port,
    stop() {
      stopped = true
      child.kill('SIGTERM')
    },
  }
}
