import { spawn, type ChildProcess } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { freePort } from '@oak-gauge/server/postgres.ts'

export interface Program {
  process: ChildProcess
  port: number
  /** `http://127.0.0.1:…` */
  origin: string
  end(): Promise<void>
}

/** All of the server as it was built, on a free port. It ends with whoever started it, also when that is killed. quiet: without its errors. */
export async function startProgram(env: Record<string, string>, quiet = false): Promise<Program> {
  const port = await freePort()
  const program = spawn('node', ['.build/server.js'], {
    cwd: fileURLToPath(new URL('..', import.meta.url)),
    env: { ...process.env, OAK_LOG: 'warn', NODE_OPTIONS: '', ...env, PORT: String(port) },
    stdio: ['ignore', 'ignore', quiet ? 'ignore' : 'inherit', 'ipc'],
  })
  const ended = new Promise<void>((resolve) => program.once('exit', () => resolve()))
  return {
    process: program,
    port,
    origin: `http://127.0.0.1:${port}`,
    end: () => {
      program.kill('SIGTERM')
      return ended
    },
  }
}
