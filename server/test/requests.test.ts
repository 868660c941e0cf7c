import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { request as httpRequest } from 'node:http'
import { parse } from 'content-disposition'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { CalibrationRow } from '../src/db/scannermodels.ts'
import { stockShelf } from '../src/scanners/demo.ts'
import { cubePly, startAll, type All } from './help.ts'

let all: All
let job: string
let item: string
beforeAll(async () => {
  all = await startAll()
  await stockShelf()
  job = (await all.newJob()).job.id
  await all.bring(job, 'cube.ply', cubePly(20))
  item = (await all.state(job)).tray[0].id
}, 120_000)
afterAll(() => all.stop())

/** A request with headers that fetch does not let through, its path as it is written. */
const raw = (path: string, headers: Record<string, string> = {}, method = 'GET', body?: string | Buffer): Promise<{ status: number; text: string }> =>
  new Promise((resolve, reject) => {
    const { hostname, port } = new URL(all.url)
    const r = httpRequest({ hostname, port, path, method, headers }, (res) => {
      let text = ''
      res.on('data', (d: Buffer) => (text += d.toString()))
      res.on('end', () => resolve({ status: res.statusCode ?? 0, text }))
    })
    r.on('error', reject)
    r.end(body)
  })

describe('who may ask', () => {
  const own = () => new URL(all.url).host
  test('origins that are hidden, unreadable, of another scheme, name or port are turned away', async () => {
    for (const origin of [
      'null',
      'garbage',
      'http://',
      'http://elsewhere.example',
      `https://${own()}`,
      `http://${own()}.evil.example`,
      'http://127.0.0.1:1',
      '',
    ])
      expect([origin, (await raw('/api/v1/jobs', { origin, host: own() })).status]).toEqual([origin, 403])
    expect((await raw('/api/v1/jobs', { origin: all.url })).status).toBe(200)
    expect((await raw('/api/v1/jobs', { origin: all.url.toUpperCase() })).status).toBe(200)
  })
  test('pages of other sites may link here, and not call the interface', async () => {
    const asked = (site: string, mode: string, path: string, method = 'GET') =>
      raw(path, { 'sec-fetch-site': site, 'sec-fetch-mode': mode }, method).then((r) => r.status)
    expect(await asked('same-origin', 'cors', '/api/v1/jobs')).toBe(200)
    expect(await asked('none', 'navigate', '/api/v1/jobs')).toBe(200)
    for (const site of ['cross-site', 'same-site']) {
      expect(await asked(site, 'no-cors', '/api/v1/jobs')).toBe(403)
      expect(await asked(site, 'navigate', '/api/v1/jobs')).toBe(403)
      expect(await asked(site, 'navigate', '/api/v1/jobs', 'POST')).toBe(403)
      expect(await asked(site, 'navigate', '/')).not.toBe(403)
    }
  })
  test('the host alone decides for programs; its case does not', async () => {
    expect((await raw('/api/v1/jobs', { host: 'evil.example' })).status).toBe(403)
    expect((await raw('/api/v1/jobs', { host: 'LOCALHOST:4180' })).status).toBe(200)
  })
})

describe('names from people, files and devices', () => {
  const NAMES = ['../../evil', 'Плита №4', '定盤 "A"', 'a\r\nSet-Cookie: x=1', '..\\..\\evil', ' . ', 'naïve; filename=x', '💾'.repeat(30)]
  const sent = async (path: string) => {
    const r = await fetch(`${all.url}/api/v1${path}`)
    await r.arrayBuffer()
    return { status: r.status, name: parse(r.headers.get('content-disposition') ?? '').parameters['filename'] ?? '', cookie: r.headers.get('set-cookie') }
  }
  const harmless = (name: string) => {
    expect(name).not.toMatch(/[\\/\r\n"]|^\./)
    expect(name.length).toBeGreaterThan(4)
  }
  test('leave as names of files in their own script, never as paths or headers', async () => {
    for (const id of NAMES) {
      const r = await fetch(`${all.url}/api/v1/artefacts?name=p.json`, { method: 'PUT', body: JSON.stringify({ ...PLATES[1], id: id.slice(0, 60) }) })
      expect([id, r.status]).toEqual([id, 201])
      const got = await sent(`/artefacts/${((await r.json()) as { id: string }).id}/file`)
      expect([id, got.status, got.cookie]).toEqual([id, 200, null])
      harmless(got.name)
      if (id.startsWith('Плита')) expect(got.name).toBe('Плита №4.json')
      const made = (await all.call('POST', '/jobs', { title: id })).body as { job: { id: string } }
      const recipe = await sent(`/jobs/${made.job.id}/recipe`)
      expect([id, recipe.status]).toEqual([id, 200])
      harmless(recipe.name)
    }
  })
})

describe('odd requests', () => {
  const ODD = ['%', '%ff', '%00', '..', '0', '-1', 'null', 'undefined', '1e999', '%C3%A4', '%D9%A3', '00000000-0000-0000-0000-000000000000', 'a'.repeat(5000)]
  test('are answered as the fault of whoever asks, never as ours', async () => {
    const scanner = ((await all.call('GET', '/scanners')).body.items as { id: string }[])[0].id
    const paths = (x: string): [string, string][] => [
      ['GET', `/jobs/${x}`],
      ['PATCH', `/jobs/${x}`],
      ['DELETE', `/jobs/${x}`],
      ['POST', `/jobs/${x}/setups`],
      ['PATCH', `/jobs/${job}/setups/${x}`],
      ['PATCH', `/jobs/${job}/slots/${x}`],
      ['POST', `/jobs/${x}/steps`],
      ['POST', `/jobs/${job}/steps/${x}/rerun`],
      ['POST', `/jobs/${job}/steps/${x}/cancel`],
      ['DELETE', `/jobs/${job}/steps/${x}`],
      ['GET', `/jobs/${job}/steps/${x}/items`],
      ['POST', `/jobs/${x}/head`],
      ['GET', `/jobs/${x}/recipe`],
      ['PUT', `/jobs/${x}/files?name=a.ply`],
      ['PUT', `/jobs/${job}/files?name=${x}&setup=${x}&role=${x}`],
      ['GET', `/jobs/${x}/uploads`],
      ['POST', `/uploads?${x}`],
      ['PATCH', `/uploads/${x}`],
      ['HEAD', `/uploads/${x}`],
      ['DELETE', `/uploads/${x}`],
      ['POST', `/jobs/${x}/recipe`],
      ['GET', `/items/${x}/display`],
      ['GET', `/items/${x}/surfaces`],
      ['GET', `/items/${x}/placement.pdf`],
      ['GET', `/items/${item}/file?format=${x}`],
      ['GET', `/items/${x}/file-size`],
      ['GET', `/scanners/${x}`],
      ['PATCH', `/scanners/${x}`],
      ['GET', `/scanners/${x}/run`],
      ['POST', `/scanners/${x}/run/${x}`],
      ['POST', `/scanners/${scanner}/calibrations`],
      ['POST', `/scanners/${x}/calibrations`],
      ['POST', `/scanners/${x}/verifications`],
      ['GET', `/scanners/${x}/live?after=${x}`],
      ['GET', `/scanners/${x}/mapping?after=${x}`],
      ['PUT', `/scanners/${x}/images?name=${x}&side=left&pair=${x}`],
      ['POST', `/scanners/${scanner}/use/${x}`],
      ['GET', `/calibrations/${x}`],
      ['GET', `/calibrations/${x}/file`],
      ['GET', `/verifications/${x}`],
      ['GET', `/verifications/${x}/certificate.pdf`],
      ['GET', `/artefacts/${x}/file`],
      ['GET', `/scanners/${x}/notes`],
      ['POST', `/jobs/${x}/mapping`],
      ['GET', `/${x}`],
    ]
    const random = seeded(11)
    const BODIES = [
      '',
      '{',
      '[]',
      '"x"',
      'null',
      '{"title":"\\u0000"}',
      '{"title":1e400}',
      '{"step":"x"}',
      '{"operation":"thin","inputs":{"passes":[7]}}',
      '{"params":null}',
    ]
    let asked = 0
    const wrong: string[] = []
    for (const x of ODD)
      for (const [method, path] of paths(x))
        for (let k = 0; k < (method === 'GET' ? 1 : 7); k++) {
          const body = ['GET', 'HEAD', 'DELETE'].includes(method) ? undefined : BODIES[Math.floor(random.next() * BODIES.length)]
          const r = await raw(`/api/v1${path}`, body === undefined ? {} : { 'content-type': 'application/json' }, method, body)
          asked++
          if (r.status >= 500) wrong.push(`${r.status} ${method} ${path.slice(0, 60)} ${body ?? ''}`)
        }
    expect(wrong).toEqual([])
    expect(asked).toBeGreaterThan(2000)
    // nothing was made by what had to be refused, and what was there still is
    expect((await all.state(job)).tray.map((i) => i.id)).toEqual([item])
  }, 120_000)
  test('made no calibration', async () => {
    expect(await CalibrationRow.count()).toBe(0)
  })
})

describe('all connections are taken', () => {
  test('whoever asks is told to come again, in words and in time; health says so at once, and all goes on when one is free', async () => {
    const taken = await Promise.all(Array.from({ length: 8 }, () => all.db.sequelize.transaction()))
    const began = performance.now()
    const asked = all.call('GET', `/jobs/${job}`)
    const health = await all.call('GET', '/health')
    expect(performance.now() - began).toBeLessThan(5000)
    expect([200, 503]).toContain(health.status)
    const { status, body } = await asked
    expect([status, body.code]).toEqual([503, 'database-away'])
    expect(performance.now() - began).toBeLessThan(25_000)
    await Promise.all(taken.map((t) => t.rollback()))
    expect((await all.call('GET', `/jobs/${job}`)).status).toBe(200)
  }, 60_000)
})
