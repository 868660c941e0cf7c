import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { request as httpRequest, type ClientRequest } from 'node:http'
import { startAll, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 180_000)
afterAll(() => all.stop())

test('a hundred uploads and a hundred downloads that nobody goes on with hold up nobody else', async () => {
  const job = (await all.newJob()).job.id
  // more than sockets and streams hold between them
  const lines = Array.from({ length: 400_000 }, (_, i) => `${i % 700} ${Math.floor(i / 700)} ${(i * 7) % 13}`)
  await all.bring(job, 'pass.xyz', lines.join('\n'))
  const [pass] = (await all.state(job)).tray
  const { hostname, port } = new URL(all.url)
  const open: ClientRequest[] = []
  const answers: (number | undefined)[] = []
  for (let k = 0; k < 100; k++) {
    const up = httpRequest({ hostname, port, path: `/api/v1/jobs/${job}/files?name=late${k}.xyz`, method: 'PUT', headers: { 'content-length': 9e6 } })
    up.on('error', () => undefined)
    up.write(Buffer.alloc(5e6, '1 2 3\n'))
    const down = httpRequest({ hostname, port, path: `/api/v1/items/${pass.id}/display?whole=1` }, (res) => {
      answers.push(res.statusCode)
      res.pause()
    })
    down.on('error', () => undefined)
    down.end()
    open.push(up, down)
  }
  // half a gigabyte goes into the database meanwhile: the last of them begin after 7 s, on a machine that is busy eight times over after 28
  const began = Date.now()
  while (answers.length < 100 && Date.now() - began < 90_000) await new Promise((resolve) => setTimeout(resolve, 20))
  expect(answers).toEqual(Array.from({ length: 100 }, () => 200))
  // all of them are silent now; whoever else asks is answered, and a whole step is done
  expect((await all.call('GET', '/health')).body.ok).toBe(true)
  expect((await all.call('GET', '/jobs')).status).toBe(200)
  const step = await all.step(job, { operation: 'thin', inputs: { passes: [pass.slot] }, params: { size: 3 } })
  expect(step.state).toBe('done')
  for (const r of open) r.destroy()
  // nothing of a broken upload stays
  const left = async () => Number((await all.db.pool.query("select count(*) from blob where name like 'late%'")).rows[0].count)
  while (await left()) await new Promise((resolve) => setTimeout(resolve, 50))
}, 180_000)
