import { identity } from '@oak-gauge/core/base/mat4.ts'
import { writePlacedMarkers } from '@oak-gauge/core/formats/markers.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import { writePly } from '@oak-gauge/core/formats/ply.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { threadPool } from '@oak-gauge/threads'
import { DEMO_JOBS } from '@oak-gauge/demo/scenario.ts'
import { takeBackSeat } from './backseat.ts'
import { storeFile } from './blobs.ts'
import { connect } from './db/connect.ts'
import { JobRow, SetupRow } from './db/models.ts'
import { enqueueFile } from './ledger/enqueue.ts'
import { log } from './log.ts'
import { withParent } from './parent.ts'
import { openQueue } from './queue.ts'
import { rehearseHistory } from './scanners/demo.ts'

/** Makes the demo jobs and brings their recorded passes in as files, the way a person would. */
const url = process.env['DATABASE_URL']
if (!url) throw new Error('DATABASE_URL is not set')
withParent(() => process.exit(1))
takeBackSeat()
const db = await connect(url)
const queue = await openQueue(db)
const ctx = { ...quietContext, parallel: threadPool() }
const wanted = Object.entries(DEMO_JOBS)
const made = new Set((await db.pool.query<{ title: string }>('select title from demo_made')).rows.map((r) => r.title))

const missing = wanted.filter(([title]) => !made.has(title))
if (missing.length) process.stdout.write('Making the demo jobs; they appear on the bench within a minute.\n')
for (const [title, make] of missing) {
  const began = performance.now()
  // left half made by a start that was broken off
  await JobRow.destroy({ where: { demo: true, title } })
  const { setups, nominal, ...fields } = await make(ctx)
  const job = await JobRow.create({ ...fields, title, demo: true })
  const maps: { setup: SetupRow; markers: Markers }[] = []
  for (let k = 0; k < setups.length; k++) {
    const setup = await SetupRow.create({ jobId: job.id, name: setups[k].name, place: k })
    const { markers } = setups[k]
    if (markers) maps.push({ setup, markers })
    for (const pass of setups[k].passes) {
      const file = await storeFile(db.pool, `${pass.name}.ply`, streamOf(writePly(pass.points, 'recorded for the demo')))
      await enqueueFile(queue, job.id, { operation: 'import', id: file.id, name: `${pass.name}.ply`, role: 'pass', setup: setup.id, unit: 'mm' })
    }
  }
  for (const { setup, markers } of maps) {
    const name = `Markers of ${setup.name}.csv`
    const file = await storeFile(db.pool, name, streamOf([new TextEncoder().encode(writePlacedMarkers(markers, identity()))]))
    await enqueueFile(queue, job.id, { operation: 'import-markers', id: file.id, name, role: 'marker-map', setup: setup.id })
  }
  if (nominal) {
    const file = await storeFile(db.pool, nominal.name, streamOf([nominal.step]))
    await enqueueFile(queue, job.id, { operation: 'import', id: file.id, name: nominal.name, role: 'nominal' })
  }
  await db.pool.query('insert into demo_made (title) values ($1)', [title])
  log.info({ job: title, milliseconds: Math.round(performance.now() - began) }, 'demo job made')
}
await rehearseHistory((scanner) => queue.bus.emit({ type: 'scanner', scanner }))
if (missing.length) process.stdout.write('The demo jobs are on the bench.\n')
await queue.close()
await db.close()
process.exit(0)

async function* streamOf(parts: Iterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  for (const p of parts) {
    yield p
    await Promise.resolve()
  }
}
