import express from 'express'
import { chmodSync, rmSync } from 'node:fs'
import pg from 'pg'
import { BASE } from '@oak-gauge/contract'
import { threadPool } from '@oak-gauge/threads'
import { connect } from '../db/connect.ts'
import { answerErrors } from '../errors.ts'
import { log, tellUnheard } from '../log.ts'
import { endsCleanly } from '../parent.ts'
import { openQueue } from '../queue.ts'
import { keepScanners } from '../scanners/keeper.ts'
import { sessionsHere } from './door.ts'
import { resumeSessions } from './resume.ts'

/**
 * The process that keeps the scanners, and leads what goes on with them. The web server reaches it by a socket: that one may end and begin
 * again, and no frame is lost. One such process at a time holds the lease of a database; another one waits for it.
 */
const url = process.env['DATABASE_URL']
const socket = process.env['OAK_SESSIONS']
if (!url || !socket) throw new Error('DATABASE_URL and OAK_SESSIONS must be set')
tellUnheard()
const { end, onEnd, ending } = endsCleanly()

const LEASE = 4181
/** The lease lives as long as its connection. Lost, it is taken again at once, or another process has it and this one ends. */
async function holdLease(wait: boolean): Promise<void> {
  const client = new pg.Client({ connectionString: url })
  client.on('error', () => undefined)
  await client.connect()
  const { rows } = wait
    ? await client.query<{ held: boolean }>('select true as held from pg_advisory_lock($1)', [LEASE])
    : await client.query<{ held: boolean }>('select pg_try_advisory_lock($1) as held', [LEASE])
  if (!rows[0]?.held) {
    log.warn('another process keeps the scanners of this database')
    return end(1)
  }
  const again = () => {
    if (ending()) return
    holdLease(false).catch(() => setTimeout(again, 500))
  }
  client.on('end', again)
}

const db = await connect(url)
await holdLease(true)
const queue = await openQueue(db, 'sessions')
queue.bus.on('restored', () => end(0))
// measuring images and solving calibrations must not hold up what arrives
const pool = threadPool()
const keeper = keepScanners(queue.bus, pool)
await resumeSessions(db, queue, keeper)
await keeper.refresh()
const door = sessionsHere(db, queue, keeper)
const app = express()
app.disable('x-powered-by')
app.use(BASE, door.routes)
app.get('/standing/:scanner', async (req, res) => {
  res.json(await door.standing(req.params.scanner))
})
app.get('/links', async (_req, res) => {
  res.json(await door.links())
})
app.use(answerErrors)
// left behind by one that was killed; whoever holds the lease may take its place
rmSync(socket, { force: true })
const server = app.listen(socket, () => {
  chmodSync(socket, 0o600)
  process.send?.('ready')
})
onEnd(async () => {
  server.close()
  server.closeAllConnections()
  await keeper.stop()
  await door.close()
  await queue.close()
  await db.close()
})
