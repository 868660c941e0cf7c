import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Validator } from '@seriousme/openapi-schema-validator'
import { API, BASE } from '@oak-gauge/contract'
import { openApi, type OpenApi } from '../src/api/openapi.ts'
import { pageOf } from '../src/api/serve.ts'
import { startAll, type All } from './help.ts'

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
