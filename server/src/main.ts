import { fork, type ChildProcess } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import PgBoss from 'pg-boss'
import { buildApp } from './app.ts'
import { threadPool } from '@oak-gauge/threads'
import { connect } from './db/connect.ts'
import { CalibrationRow } from './db/scannermodels.ts'
import { openBus } from './events.ts'
import { QUEUE } from './ledger/change.ts'
import { log, tellUnheard } from './log.ts'
import { stockShelf } from './scanners/demo.ts'
import { keepScanners } from './scanners/keeper.ts'
import { freePort, isFree, SetupError, startCluster, type Cluster } from './postgres.ts'

/** What ./start runs: database, server, worker, demo. Ends all of them with Ctrl-C. */
const here = fileURLToPath(new URL('.', import.meta.url))
const root = fileURLToPath(new URL('..', import.meta.url))

/** ms */
const SILENT = 300_000

async function main(): Promise<void> {
  tellUnheard()
  let cluster: Cluster | undefined
  if (!process.env['DATABASE_URL']) {
    cluster = await startCluster({ root, throwaway: process.env['OAK_THROWAWAY'] === '1' })
    process.env['DATABASE_URL'] = cluster.url
  }
  const url = process.env['DATABASE_URL']
  const db = await connect(url)
  const boss = new PgBoss({ connectionString: url, max: 4 })
  boss.on('error', (e) => log.error({ err: e }, 'queue'))
  await boss.start()
  await boss.createQueue(QUEUE)
  const bus = await openBus(url, db.pool)
  let stopping = false
  let worker: ChildProcess | undefined
  const startWorker = () => {
    const began = Date.now()
    worker = fork(`${here}worker.js`, { stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env: process.env })
    worker.on('exit', (code) => {
      if (stopping) return
      log.warn({ code }, 'the worker ended; starting another')
      setTimeout(startWorker, Date.now() - began < 5000 ? 2000 : 0)
    })
  }
  startWorker()
  const wanted = Number(process.env['PORT'] ?? 4180)
  const port = (await isFree(wanted)) ? wanted : await freePort()
  if (port !== wanted) process.stdout.write(`Port ${wanted} is in use by another program.\n`)
  const host = process.env['HOST'] ?? '127.0.0.1'
  // measuring images and solving calibrations must not hold up the server
  const pool = threadPool()
  const keeper = keepScanners(bus, pool)
  const demo = process.env['OAK_DEMO'] !== 'none'
  if (demo) await stockShelf()
  // what was open when the server ended stays readable, but cannot go on
  await CalibrationRow.update({ state: 'cancelled' }, { where: { state: 'open' } })
  await keeper.refresh()
  const app = buildApp(db, { boss, bus }, keeper, `${root}web/dist`)
  const server = app.listen(port, host, (error) => {
    if (error) {
      process.stderr.write(`The server cannot listen on ${host}:${port}: ${error.message}\n`)
      void stop(1)
      return
    }
    process.stdout.write(`\nOak Gauge is ready:  http://${host}:${port}\n(Ctrl-C ends it; nothing is lost by that.)\n`)
  })
  server.requestTimeout = 0
  // an upload or a download may take long, but not be silent for so long
  server.setTimeout(SILENT, (socket) => socket.destroy())
  const stop = async (code: number) => {
    if (stopping) return
    stopping = true
    server.closeAllConnections()
    server.close()
    keeper.stop()
    worker?.kill('SIGTERM')
    await new Promise<void>((resolve) => {
      if (!worker || worker.exitCode !== null) resolve()
      else {
        worker.on('exit', () => resolve())
        setTimeout(() => {
          worker?.kill('SIGKILL')
          resolve()
        }, 5000).unref()
      }
    })
    await boss.stop({ graceful: false })
    await bus.close()
    await db.close()
    cluster?.stop()
    process.exit(code)
  }
  process.on('SIGINT', () => void stop(0))
  process.on('SIGTERM', () => void stop(0))
  if (demo) {
    // a process of its own: making the demo computes for half a minute, and the server must answer meanwhile
    const seed = fork(`${here}seed.js`, { stdio: ['ignore', 'inherit', 'inherit', 'ipc'], env: process.env })
    seed.on('exit', (code) => {
      if (code && !stopping) process.stderr.write('The demo jobs could not all be made; see the log above.\n')
    })
  }
}

main().catch((e: unknown) => {
  if (e instanceof SetupError) process.stderr.write(`\n${e.message}\n`)
  else log.fatal({ err: e }, 'the server did not start')
  process.exit(1)
})
