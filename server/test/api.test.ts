import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { transformSync } from 'esbuild'
import { spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Validator } from '@seriousme/openapi-schema-validator'
import { API, BASE, type Health } from '@oak-gauge/contract'
import { openApi, type OpenApi } from '../src/api/openapi.ts'
import { pageOf } from '../src/api/serve.ts'
import { cap, cubePly, startAll, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 90_000)
afterAll(() => all.stop())

describe('the description of the interface', () => {
  test('is valid OpenAPI 3.1, and speaks of every endpoint', async () => {
    const served = (await all.call('GET', '/openapi.json')).body as OpenApi
    expect(served).toEqual(openApi())
    const r = await new Validator().validate(structuredClone(served) as never)
    expect(r.errors ?? []).toEqual([])
    expect(r.valid).toBe(true)
    const said = Object.values(served.paths).flatMap((methods) => Object.values(methods).map((d) => d.operationId))
    expect(said.sort()).toEqual(Object.keys(API).sort())
  })
  test('names no shape that is not there', () => {
    const api = openApi()
    const named = [...JSON.stringify(api).matchAll(/"#\/components\/schemas\/([^"]+)"/g)].map((m) => m[1])
    expect(named.length).toBeGreaterThan(40)
    for (const name of named) expect([name, name in api.components.schemas]).toEqual([name, true])
    expect(JSON.stringify(api)).not.toContain('$defs')
  })
  test('is a page to read, without a script', async () => {
    const r = await fetch(`${all.url}${BASE}/docs`)
    const page = await r.text()
    expect(r.headers.get('content-type')).toContain('text/html')
    for (const [id, e] of Object.entries(API)) {
      expect(page).toContain(`id="${id}"`)
      expect(page).toContain(e.title.replace(/"/g, '&#34;'))
    }
    expect(page).not.toContain('<script')
  })
})

describe('problems', () => {
  test('come as RFC 9457 says, with every field that was wrong', async () => {
    const r = await fetch(`${all.url}${BASE}/jobs`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ title: '', tolerance: -1, purpose: 'fun' }),
    })
    expect(r.status).toBe(400)
    expect(r.headers.get('content-type')).toMatch(/^application\/problem\+json/)
    const problem = (await r.json()) as { issues: { where: string }[] }
    expect(problem).toMatchObject({ type: 'urn:oak-gauge:problem:bad-request', title: 'bad request', status: 400, code: 'bad-request', where: 'title' })
    expect(problem.issues.map((i) => i.where)).toEqual(['title', 'purpose', 'tolerance'])
  })
  test('an unknown address leads to the description', async () => {
    expect(await all.call('GET', '/nothing')).toMatchObject({ status: 404, body: { code: 'not-found', remedy: expect.stringContaining('/docs') as unknown } })
    const old = await fetch(`${all.url}/api/jobs`)
    expect([old.status, old.headers.get('content-type')]).toEqual([404, expect.stringContaining('problem+json')])
  })
})

describe('lists come in pages', () => {
  test('of the size that is asked for, each job once, in the order of making', async () => {
    const made: string[] = []
    for (let i = 0; i < 5; i++) made.push((await all.newJob(`Page ${i}`)).job.id)
    const got: string[] = []
    let after = ''
    do {
      const { items, next } = (await all.call('GET', `/jobs?limit=2${after && `&after=${after}`}`)).body as { items: { id: string }[]; next: string | null }
      expect(items.length).toBeLessThanOrEqual(2)
      got.push(...items.map((i) => i.id))
      after = next ?? ''
    } while (after)
    expect(got).toEqual(made)
    for (const limit of ['0', '501', '1e9', 'many', '-1']) expect([limit, (await all.call('GET', `/jobs?limit=${limit}`)).status]).toEqual([limit, 400])
  })
  test.each([
    [2, undefined, ['a', 'b'], 'b'],
    [2, 'b', ['c'], null],
    [3, undefined, ['a', 'b', 'c'], null],
    [2, 'c', [], null],
  ] as const)('%p behind %p', (limit, after, items, next) => {
    const list = ['a', 'b', 'c'].map((id) => ({ id }))
    const page = pageOf(list, { limit, after })
    expect([page.items.map((i) => i.id), page.next]).toEqual([items, next])
  })
  test('what the page follows was deleted meanwhile: said, and not begun again unasked', async () => {
    expect(() => pageOf([{ id: 'a' }], { limit: 5, after: 'gone' })).toThrow('not there any more')
    const gone = (await all.newJob('Gone')).job.id
    await all.call('DELETE', `/jobs/${gone}`)
    expect(await all.call('GET', `/jobs?after=${gone}`)).toMatchObject({ status: 409, body: { code: 'page-gone', remedy: 'Begin again at the first page.' } })
  })
})

describe('the worked example of docs/api.md', () => {
  const doc = readFileSync(fileURLToPath(new URL('../../docs/api.md', import.meta.url)), 'utf8')
  const block = (language: string) => new RegExp('```' + language + '\\n([^]*?)```').exec(doc)?.[1] ?? ''
  const folder = mkdtempSync(join(tmpdir(), 'oak-api-'))
  afterAll(() => rmSync(folder, { recursive: true, force: true }))
  const recipe = {
    ...{ oakGauge: 'recipe', version: 1, title: 'Ball', deliver: [] },
    inputs: { passes1: { about: 'recorded passes', many: true }, nominal: { about: 'nominal' } },
    steps: [
      { operation: 'thin', inputs: { passes: ['passes1'] }, params: { size: 0.4 } },
      { operation: 'merge', inputs: { passes: ['passes1'] }, params: { cell: 1 } },
      { operation: 'deviation', inputs: { measured: ['mesh'], nominal: ['nominal'] }, params: { maxDistance: 40 } },
    ],
  }
  beforeAll(() => {
    writeFileSync(join(folder, 'pass1.xyz'), cap(0, true))
    writeFileSync(join(folder, 'pass2.xyz'), cap(1, false))
    writeFileSync(join(folder, 'nominal.ply'), cubePly(30))
    writeFileSync(join(folder, 'recipe.json'), JSON.stringify(recipe))
    writeFileSync(join(folder, 'example.sh'), block('sh'))
    writeFileSync(join(folder, 'example.mjs'), transformSync(block('ts'), { loader: 'ts', format: 'esm' }).code)
  })
  test.each([
    ['curl', 'bash', ['-eu', 'example.sh']],
    ['TypeScript', process.execPath, ['example.mjs']],
  ] as const)(
    'with %s',
    async (_with, program, args) => {
      const child = spawn(program, args, {
        cwd: folder,
        env: { ...process.env, NODE_OPTIONS: '', OAK: `${all.url}${BASE}` },
        stdio: ['ignore', 'ignore', 'pipe'],
      })
      let said = ''
      child.stderr.on('data', (b: Buffer) => (said += b.toString()))
      const code = await new Promise((resolve) => child.on('exit', resolve))
      expect([code, said]).toEqual([0, ''])
      // a ball of 15 mm around a corner of a cube of 30 mm: its vertices are 15 mm from the corner, so no deviation is larger
      const values = readFileSync(join(folder, 'deviation.csv'), 'utf8')
        .trim()
        .split('\n')
        .slice(1)
        .map((line) => Number(line.split(',').at(-1)))
      rmSync(join(folder, 'deviation.csv'))
      expect(values.length).toBeGreaterThan(1000)
      expect(Math.max(...values.map(Math.abs))).toBeLessThan(15.2)
      expect(Math.max(...values)).toBeGreaterThan(14.5)
    },
    120_000,
  )
})

describe('how the program is', () => {
  test('is told with queue, processes, links, space and stalls; the same as figures for a monitor', async () => {
    await all.keeper.refresh()
    const health = (await all.call('GET', '/health')).body as Health
    expect(health).toMatchObject({ ok: true, queue: { waiting: 0, running: 0 }, processes: { web: 1, worker: 1 }, scanners: [] })
    expect(health.space?.free).toBeGreaterThan(1e6)
    expect(health.space?.total).toBeGreaterThan(health.space?.free ?? Infinity)
    const r = await fetch(`${all.url}/metrics`)
    expect(r.headers.get('content-type')).toContain('text/plain')
    const value = async (line: string) => Number(new RegExp(`^${line} (\\S+)$`, 'm').exec(await (await fetch(`${all.url}/metrics`)).text())?.[1])
    expect(await value('oak_processes\\{kind="worker"\\}')).toBe(1)
    expect(await value('oak_disk_bytes\\{what="total"\\}')).toBe(health.space?.total)
    // by endpoint, not by address: ids would make a series each
    const { id } = (await all.newJob('Counted')).job
    const count = 'oak_request_seconds_count\\{method="GET",path="/jobs/:id",status="200"\\}'
    const before = (await value(count)) || 0
    await all.call('GET', `/jobs/${id}`)
    expect(await value(count)).toBe(before + 1)
    expect(await (await fetch(`${all.url}/metrics`)).text()).not.toContain(id)
  })
  test('a step that waits is counted', async () => {
    const job = (await all.newJob('Waits')).job.id
    await all.db.pool.query("insert into step (job_id, operation, version, params, inputs, state) values ($1, 'thin', 1, '{}', '{}', 'queued')", [job])
    expect(((await all.call('GET', '/health')).body as Health).queue.waiting).toBe(1)
    await all.db.pool.query('delete from step where job_id = $1', [job])
  })
})
