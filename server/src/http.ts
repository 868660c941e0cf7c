import { fileURLToPath } from 'node:url'
import { buildApp } from './app.ts'
import { connect } from './db/connect.ts'
import { keepExports } from './helper/exports.ts'
import { helperProcess } from './helper/helper.ts'
import { askForThisVersion } from './ledger/versions.ts'
import { tellUnheard } from './log.ts'
import { endsCleanly } from './parent.ts'
import { openQueue } from './queue.ts'
import { sessionsAt } from './sessions/door.ts'

/** The web server. It holds nothing that is not in the database or with the other processes: it may end and begin again at any moment. */
const { DATABASE_URL: url, OAK_SESSIONS: socket, PORT: port, HOST: host } = process.env
if (!url || !socket || !port || !host) throw new Error('DATABASE_URL, OAK_SESSIONS, PORT and HOST must be set')
const root = fileURLToPath(new URL('..', import.meta.url))
/** ms */
const SILENT = 300_000

tellUnheard()
const { end, onEnd } = endsCleanly()

const db = await connect(url)
const queue = await openQueue(db, 'web', 4)
queue.bus.on('restored', () => end(0))
await askForThisVersion()
const exports = keepExports(helperProcess(url))
const app = buildApp(db, queue, sessionsAt(socket), exports, `${root}web/dist`)
const server = app.listen(Number(port), host, (error) => {
  if (error) {
    process.stderr.write(`The server cannot listen on ${host}:${port}: ${error.message}\n`)
    return end(2)
  }
  process.send?.('ready')
})
server.requestTimeout = 0
// an upload or a download may take long, but not be silent for so long
server.setTimeout(SILENT, (s) => s.destroy())
onEnd(async () => {
  server.closeAllConnections()
  server.close()
  await exports.close()
  await queue.close()
  await db.close()
})
