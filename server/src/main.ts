import { fork, type ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { OWN_SESSION } from './backseat.ts'
import { connect } from './db/connect.ts'
import { listensTo } from './listen.ts'
import { log, tellUnheard } from './log.ts'
import { claim, freePort, isFree, SetupError, startCluster, type Cluster } from './postgres.ts'
import { stockShelf } from './scanners/demo.ts'

/**
 * What ./start runs: it starts the database, the web server, the process that keeps the scanners, and a worker; starts anew what dies; and ends all of
 * them with Ctrl-C. It does nothing else, so that nothing in it can go wrong.
 */
const here = fileURLToPath(new URL('.', import.meta.url))
const root = fileURLToPath(new URL('..', import.meta.url))
/** ms between two looks at the database, and a pause before what ended at once is started again */
const LOOK = 1000
const PAUSE = 1000
/**
 * The web server's heap is small (40 MB), but hundreds of megabytes of pieces of files pass through it each second. Collected on helper threads, they were let
 * go late (1.3 GB resident) and all at once, while the event loop stood for up to a second waiting for threads that had no core; by itself it needs 30 to 60 ms.
 */
const FLAGS: Record<string, string[]> = { http: ['--single-threaded-gc'] }

async function main(): Promise<void> {
  tellUnheard()
  const host = listensTo(process.env['HOST'] ?? '127.0.0.1')
  const own = !process.env['DATABASE_URL']
  const throwaway = process.env['OAK_THROWAWAY'] === '1'
  const claimed = own && !throwaway ? claim(root) : undefined
  if (claimed?.by) {
    process.stdout.write(`\nOak Gauge is running already:  ${claimed.by}\n`)
    return
  }
  let cluster: Cluster | undefined
  if (own) {
    cluster = await startCluster({ root, throwaway })
    process.env['DATABASE_URL'] = cluster.url
  }
  const url = process.env['DATABASE_URL'] as string
  const demo = process.env['OAK_DEMO'] !== 'none'
  const db = await connect(url)
  if (demo) await stockShelf()
  await db.close()

  const wanted = Number(process.env['PORT'] ?? 4180)
  const port = (await isFree(wanted)) ? wanted : await freePort()
  if (port !== wanted) process.stdout.write(`Port ${wanted} is in use by another program.\n`)
  const folder = mkdtempSync(join(tmpdir(), 'oak-gauge-'))
  const env = { ...process.env, PORT: String(port), HOST: host, OAK_SESSIONS: join(folder, 'sessions') }

  const children = new Map<string, ChildProcess>()
  let stopping = false
  /** Starts a process and, whenever it ends, another one. */
  const keep = (name: string, onReady: () => void = () => undefined): void => {
    const began = Date.now()
    const execArgv = [...process.execArgv, ...(FLAGS[name] ?? [])]
    const child = fork(`${here}${name}.js`, { ...OWN_SESSION, stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env, execArgv })
    children.set(name, child)
    child.once('message', onReady)
    child.on('exit', (code, signal) => {
      if (stopping) return
      // nobody else can help: the address is not to be had
      if (code === 2) return void stop(1)
      log.warn({ name, code, signal }, 'a process ended; starting another')
      setTimeout(() => !stopping && keep(name, onReady), Date.now() - began < 5000 ? PAUSE : 0)
    })
  }
  const stop = async (code: number): Promise<void> => {
    if (stopping) return
    stopping = true
    clearInterval(watch)
    await Promise.all([...children.values()].map(ended))
    rmSync(folder, { recursive: true, force: true })
    cluster?.stop()
    claimed?.give()
    process.exit(code)
  }
  process.on('SIGINT', () => void stop(0))
  process.on('SIGTERM', () => void stop(0))
  // the terminal was closed: the others, sessions of their own, are not told
  process.on('SIGHUP', () => void stop(0))
  // a program that started it, and is gone: nobody else could end it
  process.on('disconnect', () => void stop(0))
  // a database that died is started again on its own port; the other processes find it there
  const watch = setInterval(() => {
    if (stopping || !cluster || cluster.runs()) return
    log.error('the database ended; starting it again')
    try {
      cluster.startAgain()
    } catch (e) {
      log.error({ err: e }, 'the database does not start')
    }
  }, LOOK)

  keep('sessions')
  keep('worker')
  let told = false
  keep('http', () => {
    if (told) return
    told = true
    const address = `http://${host}:${port}`
    claimed?.tell(address)
    process.stdout.write(`\nOak Gauge is ready:  ${address}\n(Ctrl-C ends it; nothing is lost by that.)\n`)
  })
  // a process of its own: making the demo computes for half a minute. Broken off, it goes on with the job it was at.
  const seed = (left: number): void => {
    const child = fork(`${here}seed.js`, { ...OWN_SESSION, stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env })
    children.set('seed', child)
    child.on('exit', (code) => {
      if (code === 0 || stopping) return
      if (left) setTimeout(() => !stopping && seed(left - 1), 2 * PAUSE)
      else process.stderr.write('The demo jobs could not all be made; see the log above.\n')
    })
  }
  if (demo) seed(3)
}

/** Tells a process to end, and waits until it has; one that does not is killed. */
function ended(child: ChildProcess): Promise<void> {
  if (child.exitCode !== null || child.signalCode !== null) return Promise.resolve()
  return new Promise((resolve) => {
    const hard = setTimeout(() => child.kill('SIGKILL'), 5000)
    child.once('exit', () => {
      clearTimeout(hard)
      resolve()
    })
    child.kill('SIGTERM')
  })
}

main().catch((e: unknown) => {
  if (e instanceof SetupError) process.stderr.write(`\n${e.message}\n`)
  else log.fatal({ err: e }, 'the server did not start')
  process.exit(1)
})
