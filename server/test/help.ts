import { execFile, execFileSync, fork, type ChildProcess } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import type { JobState, Step, StepRequest } from '@oak-gauge/contract'
import { buildApp } from '../src/app.ts'
import { connect, type Database } from '../src/db/connect.ts'
import { keepExports } from '../src/helper/exports.ts'
import { helperProcess } from '../src/helper/helper.ts'
import { startCluster } from '../src/postgres.ts'
import { openQueue } from '../src/queue.ts'
import { keepScanners } from '../src/scanners/keeper.ts'
import { sessionsAt, sessionsHere } from '../src/sessions/door.ts'
import { threadPool } from '@oak-gauge/threads'

const root = fileURLToPath(new URL('../..', import.meta.url))

/** A program of the build, run to its end. Not with spawnSync: the test's own server must go on answering, or idle connections end while nobody looks. */
export const ran = (program: string, args: string[], { cwd, env = {} }: { cwd?: string; env?: object } = {}) =>
  new Promise<{ status: number; stdout: string; stderr: string }>((resolve) => {
    const options = { cwd, encoding: 'utf8', maxBuffer: 1 << 28, env: { ...process.env, NODE_OPTIONS: '', ...env } } as const
    const child = execFile(process.execPath, [`${root}.build/${program}.js`, ...args], options, (_error, stdout, stderr) =>
      resolve({ status: child.exitCode ?? -1, stdout, stderr }),
    )
  })
// every answer is held against its description, of this process and of those it starts
process.env['OAK_CHECK_ANSWERS'] = '1'

/**
 * The whole server on a throwaway PostgreSQL, with a worker process that a test may kill. apart: the scanners are kept by a process of
 * their own as in real life, which a test may kill too; else by this one.
 */
export async function startAll({ apart = false } = {}) {
  if (!existsSync(`${root}.build/worker.js`)) throw new Error('build first: npm run build')
  const cluster = await startCluster({ root, throwaway: true })
  // a run that is broken off must not leave a database behind
  const last = () => cluster.stop()
  process.on('exit', last)
  const db: Database = await connect(cluster.url)
  const pool = threadPool(2, `${root}.build/thread.js`)
  const queue = await openQueue(db, 'web')
  const keeper = keepScanners(queue.bus, pool)
  const exports = keepExports(helperProcess(cluster.url))
  const folder = mkdtempSync(join(tmpdir(), 'oak-test-'))
  const socket = join(folder, 'sessions')
  const door = apart ? sessionsAt(socket) : sessionsHere(db, queue, keeper)
  const server: Server = await new Promise((resolve) => {
    const s = buildApp(db, queue, door, exports).listen(0, '127.0.0.1', () => resolve(s))
  })
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  let worker: ChildProcess | undefined
  /** Resolves when it says that it is ready. */
  const another = (program: string, env: object = {}) =>
    new Promise<ChildProcess>((resolve) => {
      const child = fork(`${root}.build/${program}.js`, {
        env: { ...process.env, DATABASE_URL: cluster.url, OAK_LOG: 'silent', NODE_OPTIONS: '', ...env },
        stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
      })
      child.on('message', () => resolve(child))
    })
  const anotherWorker = () => another('worker')
  let sessions: ChildProcess | undefined
  const startSessions = async () => {
    sessions = await another('sessions', { OAK_SESSIONS: socket })
  }
  if (apart) await startSessions()
  const startWorker = async () => {
    worker = await anotherWorker()
  }
  await startWorker()

  const call = async (method: string, path: string, body?: unknown) => {
    const r = await fetch(`${url}/api/v1${path}`, {
      method,
      headers: body === undefined ? {} : { 'content-type': 'application/json' },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    })
    const text = await r.text()
    return { status: r.status, body: text ? JSON.parse(text) : null }
  }
  const state = async (job: string): Promise<JobState> => (await call('GET', `/jobs/${job}`)).body
  const finished = async (job: string, step: string): Promise<Step> => {
    for (let i = 0; i < 1200; i++) {
      const s = (await state(job)).steps.find((x) => x.id === step)
      if (s && ['done', 'failed', 'cancelled'].includes(s.state)) return s
      await new Promise((resolve) => setTimeout(resolve, 50))
    }
    throw new Error(`step ${step} does not end`)
  }
  return {
    url,
    db,
    keeper,
    call,
    state,
    finished,
    startWorker,
    anotherWorker,
    /** of those that are kept apart */
    startSessions,
    sessions: () => sessions as ChildProcess,
    socket,
    another,
    worker: () => worker as ChildProcess,
    /** Kills the process of a stand-in from outside: ours alone, other tests run beside this one. */
    killStandIn: (device: string) => execFileSync('pkill', ['-P', String(sessions?.pid ?? process.pid), '-f', `standin.js ${device}`]),
    newJob: async (title = 'Test part'): Promise<JobState> => (await call('POST', '/jobs', { title })).body,
    bring: async (job: string, name: string, content: string | Uint8Array, query = ''): Promise<Step> => {
      const r = await fetch(`${url}/api/v1/jobs/${job}/files?name=${encodeURIComponent(name)}${query}`, { method: 'PUT', body: content as string })
      const step = (await r.json()) as Step
      if (!r.ok) throw Object.assign(new Error('refused'), { problem: step })
      return finished(job, step.id)
    },
    step: async (job: string, request: StepRequest): Promise<Step> => {
      const r = await call('POST', `/jobs/${job}/steps`, request)
      if (r.status !== 202) throw Object.assign(new Error(r.body.detail), { problem: r.body })
      return finished(job, r.body.id)
    },
    async stop() {
      worker?.kill('SIGKILL')
      sessions?.kill('SIGKILL')
      rmSync(folder, { recursive: true, force: true })
      await keeper.stop()
      await pool.close()
      server.closeAllConnections()
      server.close()
      await exports.close()
      await door.close()
      await queue.close()
      await db.close()
      cluster.stop()
      process.off('exit', last)
    },
  }
}
export type All = Awaited<ReturnType<typeof startAll>>

/** A cube as an ascii PLY mesh, its lower corner at the origin. */
export function cubePly(side: number): string {
  const corners = Array.from({ length: 8 }, (_, c) => `${c & 1 ? side : 0} ${c & 2 ? side : 0} ${c & 4 ? side : 0}`)
  const quads = [
    [0, 4, 6, 2],
    [1, 3, 7, 5],
    [0, 1, 5, 4],
    [2, 6, 7, 3],
    [0, 2, 3, 1],
    [4, 5, 7, 6],
  ]
  return `ply\nformat ascii 1.0\nelement vertex 8\nproperty float x\nproperty float y\nproperty float z\nelement face 6\nproperty list uchar int vertex_indices\nend_header\n${corners.join('\n')}\n${quads.map((q) => `4 ${q.join(' ')}`).join('\n')}\n`
}

/** A ball of 15 mm radius seen from one side of a plane, as point text with normals. */
export function cap(seed: number, upper: boolean): string {
  const lines: string[] = []
  const n = 9000
  for (let i = 0; i < n; i++) {
    const z = 1 - (2 * i + 1) / n
    const a = i * Math.PI * (3 - Math.sqrt(5)) + seed
    const s = Math.sqrt(1 - z * z)
    const d = [s * Math.cos(a), s * Math.sin(a), z]
    if (upper ? z < -0.4 : z > 0.4) continue
    lines.push([...d.map((v) => (15 * v).toFixed(5)), ...d.map((v) => v.toFixed(6))].join(' '))
  }
  return lines.join('\n')
}

/** A grid of points on a table at z = 0 and on a block of 20 mm above it, as point text. */
export function tableAndBlock(): string {
  const lines: string[] = []
  for (let x = -40; x <= 40; x++) for (let y = -40; y <= 40; y++) lines.push(`${x} ${y} ${Math.max(Math.abs(x), Math.abs(y)) <= 15 ? 20 : 0}`)
  return lines.join('\n')
}

/** Reads again and again until it is good; says what it still was when it never is. */
export async function until<T>(read: () => Promise<T>, good: (v: T) => boolean, seconds = 90): Promise<T> {
  const end = Date.now() + seconds * 1000
  for (;;) {
    const v = await read()
    if (good(v)) return v
    if (Date.now() > end) throw new Error(`still ${JSON.stringify(v).slice(0, 600)}`)
    await new Promise((r) => setTimeout(r, 50))
  }
}
