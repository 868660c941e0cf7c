import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { randomUUID } from 'node:crypto'
import { request as httpRequest } from 'node:http'
import type { OpenUpload } from '@oak-gauge/contract'
import { cubePly, startAll, tableAndBlock, until, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

const TUS = { 'tus-resumable': '1.0.0' }
const encoded = (told: Record<string, string>) =>
  Object.entries(told)
    .map(([k, v]) => `${k} ${Buffer.from(v).toString('base64')}`)
    .join(',')
const begin = (size: number | string, told: Record<string, string>, headers: Record<string, string> = {}) =>
  fetch(`${all.url}/api/v1/uploads`, {
    method: 'POST',
    headers: { ...TUS, 'upload-length': String(size), 'upload-metadata': encoded(told), ...headers },
  })
const begun = async (size: number, told: Record<string, string>) => (await begin(size, told)).headers.get('location') as string
const part = (at: string, offset: number, data: Uint8Array | string) =>
  fetch(all.url + at, {
    method: 'PATCH',
    headers: { ...TUS, 'upload-offset': String(offset), 'content-type': 'application/offset+octet-stream' },
    body: data as string,
  })
const stands = async (at: string) => {
  const r = await fetch(all.url + at, { method: 'HEAD', headers: TUS })
  return r.status === 200 ? Number(r.headers.get('upload-offset')) : r.status
}
/** Sends so much of a part, and then the line is dead. */
const cutOff = (at: string, offset: number, data: Buffer, announced: number) =>
  new Promise<void>((resolve) => {
    const { hostname, port } = new URL(all.url)
    const headers = { ...TUS, 'upload-offset': offset, 'content-type': 'application/offset+octet-stream', 'content-length': announced }
    const r = httpRequest({ hostname, port, path: at, method: 'PATCH', headers })
    r.on('error', () => undefined)
    r.on('close', () => resolve())
    r.write(data, () => setTimeout(() => r.destroy(), 200))
  })
const open = async (job: string) => (await all.call('GET', `/jobs/${job}/uploads`)).body as OpenUpload[]
const read = (job: string) =>
  until(
    () => all.state(job),
    (s) => s.steps.length > 0 && s.steps.every((x) => x.state === 'done'),
    30,
  )

describe('a file in parts', () => {
  test('goes on where the line was cut, and is the file that was sent', async () => {
    const job = (await all.newJob()).job.id
    const file = Buffer.from(tableAndBlock())
    const at = await begun(file.length, { job, name: 'C:\\scans\\table.xyz', modified: '1234' })
    expect((await part(at, 0, file.subarray(0, 1000))).headers.get('upload-offset')).toBe('1000')
    await cutOff(at, 1000, file.subarray(1000, 5000), file.length - 1000)
    const came = await until(
      () => stands(at),
      (n) => n > 1000,
      10,
    )
    expect(came).toBe(5000)
    expect(await open(job)).toEqual([
      {
        id: at.split('/').pop(),
        name: 'C:\\scans\\table.xyz',
        size: file.length,
        bytes: 5000,
        role: null,
        setup: null,
        idle: expect.any(Number),
        modified: 1234,
      },
    ])
    expect((await part(at, came, file.subarray(came))).status).toBe(204)
    const state = await read(job)
    expect(await open(job)).toEqual([])
    const whole = (await all.newJob()).job.id
    await all.bring(whole, 'table.xyz', file)
    const [a] = state.tray
    const [b] = (await all.state(whole)).tray
    expect([a.name, a.count]).toEqual([b.name, b.count])
    // the same bytes are kept once, and the second job found the step done
    expect((await all.state(whole)).steps[0].reused).toBe(true)
    const { rows } = await all.db.pool.query('select distinct file_id from step where job_id in ($1, $2)', [job, whole])
    expect(rows).toHaveLength(1)
  })
  test('that is whole, but was not read because the server ended just then, is read when somebody asks for it; once', async () => {
    const job = (await all.newJob()).job.id
    const file = cubePly(17)
    const at = await begun(file.length, { job, name: 'cube.ply', role: 'nominal' })
    await part(at, 0, file.slice(0, 100))
    const id = at.split('/').pop()
    await all.db.pool.query(
      `with u as (select blob_id from upload where id = $1), c as (insert into blob_chunk select blob_id, 1, $2 from u)
       update blob set bytes = $3 where id = (select blob_id from u)`,
      [id, Buffer.from(file.slice(100)), file.length],
    )
    expect(await Promise.all([stands(at), stands(at), open(job)])).toMatchObject([file.length, file.length, []])
    const state = await read(job)
    expect(state.steps).toHaveLength(1)
    expect(state.tray).toMatchObject([{ role: 'nominal', count: 12 }])
    expect(await stands(at)).toBe(file.length)
  })
  test('two at once for one upload: one goes on, nothing is mixed up', async () => {
    const job = (await all.newJob()).job.id
    const file = cubePly(18)
    const at = await begun(file.length, { job, name: 'cube.ply' })
    const answers = await Promise.all([part(at, 0, file), part(at, 0, file)])
    expect(answers.map((r) => r.status).sort()).toEqual([204, 409])
    const conflict = answers.find((r) => r.status === 409)
    expect([conflict?.headers.get('content-type'), await conflict?.json()]).toEqual([
      expect.stringContaining('application/problem+json'),
      expect.objectContaining({ code: 'moved-on' }),
    ])
    expect((await read(job)).steps).toHaveLength(1)
  })
  test('that is given up is gone, and of one whose job was deleted nothing can come any more', async () => {
    const job = (await all.newJob()).job.id
    const at = await begun(500, { job, name: 'x.xyz' })
    await part(at, 0, 'abc')
    const blobs = async () => (await all.db.pool.query(`select 1 from blob where name = 'x.xyz'`)).rowCount
    expect(await blobs()).toBe(1)
    expect((await fetch(all.url + at, { method: 'DELETE', headers: TUS })).status).toBe(204)
    expect([await stands(at), await blobs()]).toEqual([404, 0])
    const other = await begun(500, { job, name: 'y.xyz' })
    await all.call('DELETE', `/jobs/${job}`)
    expect((await part(other, 0, 'abc')).status).toBe(404)
  })
})

describe('uploads that are refused', () => {
  const job = async () => (await all.newJob()).job.id
  test.each([
    ['an empty file', 0, {}, 422, 'empty'],
    ['one of 3 GB', 3e9, {}, 413, 'too-large'],
    ['one without a size', 'much', {}, 400, 'bad-request'],
    ['one below nothing', -5, {}, 400, 'bad-request'],
    ['an unknown job', 10, { job: randomUUID() }, 404, 'not-found'],
    ['no id of a job', 10, { job: '../../etc' }, 400, 'bad-request'],
    ['a role that there is not', 10, { role: 'boss' }, 400, 'bad-request'],
    ['a name without end', 10, { name: 'x'.repeat(400) }, 400, 'bad-request'],
  ])('%s', async (_what, size, told, status, code) => {
    const r = await begin(size, { job: await job(), name: 'a.xyz', ...told })
    expect([r.status, r.headers.get('content-type'), ((await r.json()) as { code: string }).code]).toEqual([
      status,
      expect.stringContaining('application/problem+json'),
      code,
    ])
  })
  test('what the protocol forbids', async () => {
    const at = await begun(10, { job: await job(), name: 'a.xyz' })
    expect((await begin(10, {}, { 'upload-metadata': 'job !!,,' })).status).toBe(400)
    expect((await fetch(all.url + at, { method: 'PATCH', headers: TUS, body: 'abc' })).status).toBe(400)
    expect((await fetch(all.url + at, { method: 'HEAD' })).status).toBe(412)
    expect((await part(at, 0, 'longer than ten')).status).toBe(413)
    expect((await part(at, -1, 'abc')).status).toBeGreaterThanOrEqual(400)
    expect(await stands(`/api/v1/uploads/${randomUUID()}`)).toBe(404)
    expect(await stands('/api/v1/uploads/..%2f..%2fetc')).toBe(404)
    expect(await stands(at)).toBe(0)
  })
  test('a full disk, while a part is on its way: in words, and what had come stays', async () => {
    const at = await begun(20, { job: await job(), name: 'a.xyz' })
    await part(at, 0, '12345')
    await all.db.pool.query(
      "create function no_room() returns trigger language plpgsql as $$ begin raise exception 'could not extend file' using errcode = '53100'; end $$",
    )
    await all.db.pool.query('create trigger no_room before insert on blob_chunk execute function no_room()')
    const r = await part(at, 5, '67890')
    await all.db.pool.query('drop function no_room cascade')
    expect([r.status, await r.json()]).toMatchObject([507, { code: 'disk-full' }])
    expect(await stands(at)).toBe(5)
  })
})
