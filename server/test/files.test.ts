import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { randomUUID } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { quantity, unpack, type ServerEvent, type Step } from '@oak-gauge/contract'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { meshFacts } from '@oak-gauge/core/measure/facts.ts'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { cubePly, startAll, tableAndBlock, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

describe('jobs', () => {
  test('are made, changed, listed and deleted', async () => {
    const made = await all.newJob('Pawl')
    expect(made.setups).toHaveLength(1)
    const changed = (await all.call('PATCH', `/jobs/${made.job.id}`, { tolerance: 0.2, part: 'Winch' })).body
    expect(changed.job.tolerance).toBe(0.2)
    const list = (await all.call('GET', '/jobs')).body.items
    expect(list.find((j: any) => j.id === made.job.id).headline).toBe('Nothing recorded yet')
    expect((await all.call('DELETE', `/jobs/${made.job.id}`)).status).toBe(204)
    expect((await all.call('GET', `/jobs/${made.job.id}`)).status).toBe(404)
  })
  test('wrong fields are named', async () => {
    const r = await all.call('POST', '/jobs', { title: '  ', tolerance: -1 })
    expect(r.status).toBe(400)
    expect(r.body.detail).toContain('name')
    expect((await all.call('GET', '/jobs/no-such-job')).status).toBe(404)
    expect((await all.call('GET', '/nowhere')).status).toBe(404)
  })
})

describe('files in', () => {
  test('a part 4 units long: the unit is asked, and the answer runs it again', async () => {
    const job = (await all.newJob()).job.id
    const asked = await all.bring(job, 'small.ply', cubePly(4))
    expect(asked.state).toBe('failed')
    expect(asked.problem?.code).toBe('unit-unknown')
    expect((await all.state(job)).tray).toEqual([])
    const again = () => all.call('POST', `/jobs/${job}/steps/${asked.id}/rerun`, { params: { unit: 'in' }, request })
    const request = randomUUID()
    const answers = [await again(), await again()]
    await all.finished(job, asked.id)
    // sent once more after it has ended (an answer that was lost): still the same request
    answers.push(await again())
    expect(answers.map((a) => [a.status, (a.body as Step[]).map((s) => s.id)])).toEqual(answers.map(() => [202, [asked.id]]))
    expect((await all.state(job)).steps.map((s) => s.state)).toEqual(['done'])
    const [mesh] = (await all.state(job)).tray
    expect(mesh.box?.[3]).toBeCloseTo(4 * 25.4, 4)
  })
  test('truncated, empty and lying files name the file and store nothing of it', async () => {
    const job = (await all.newJob()).job.id
    const whole = cubePly(20)
    const cases: [string, string][] = [
      ['cut.ply', whole.slice(0, whole.length - 30)],
      ['lying.ply', whole.replace('element vertex 8', 'element vertex 9000000000')],
      ['words.xyz', 'this is no scan\nat all\n'],
      ['nan.xyz', 'NaN NaN NaN\nNaN NaN NaN\n'],
    ]
    for (const [name, content] of cases) {
      const s = await all.bring(job, name, content)
      expect([name, s.state]).toEqual([name, 'failed'])
      expect(s.problem?.code).not.toBe('internal')
      expect(s.problem?.where).toContain(name)
      expect(s.problem?.remedy).not.toBe('')
    }
    await expect(all.bring(job, 'empty.stl', '')).rejects.toMatchObject({ problem: { code: 'empty', where: 'empty.stl' } })
    expect((await all.state(job)).tray).toEqual([])
    expect((await all.db.pool.query('select 1 from item where job_id = $1', [job])).rowCount).toBe(0)
  })
  test('an upload that is broken off leaves no file behind', async () => {
    const job = (await all.newJob()).job.id
    const before = (await all.db.pool.query('select 1 from blob')).rowCount
    const stop = new AbortController()
    const body = new ReadableStream({
      start(c) {
        c.enqueue(new Uint8Array(9_000_000))
        setTimeout(() => stop.abort(), 300)
      },
    })
    await expect(
      fetch(`${all.url}/api/v1/jobs/${job}/files?name=half.xyz`, { method: 'PUT', body, duplex: 'half', signal: stop.signal } as RequestInit),
    ).rejects.toThrow()
    await new Promise((resolve) => setTimeout(resolve, 700))
    expect((await all.db.pool.query('select 1 from blob')).rowCount).toBe(before)
    expect((await all.state(job)).steps).toEqual([])
  })
})

describe('results out', () => {
  test('each format reads back as the same body', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(20))
    const [mesh] = (await all.state(job)).tray
    for (const format of ['stl', 'ply', 'obj', '3mf']) {
      const r = await fetch(`${all.url}/api/v1/items/${mesh.id}/file?format=${format}`)
      const bytes = new Uint8Array(await r.arrayBuffer())
      const size = (await all.call('GET', `/items/${mesh.id}/file-size?format=${format}`)).body.bytes
      expect(size).toBe(bytes.length)
      const facts = meshFacts((await readAny(bytesSource(`x.${format}`, bytes))).data as Mesh)
      expect([format, Math.round(1e4 * facts.volume) / 1e4, facts.topology.openEdges]).toEqual([format, 8000, 0])
    }
  })
  test('deviation of a cube from a larger nominal: -1 mm where faces are shifted, and its table', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'part.ply', cubePly(20))
    await all.bring(job, 'nominal.ply', cubePly(21), '&role=nominal')
    const tray = (await all.state(job)).tray
    const [part, nominal] = [tray.find((i) => i.role === 'mesh'), tray.find((i) => i.role === 'nominal')]
    const d = await all.step(job, { operation: 'deviation', inputs: { measured: [part?.slot ?? ''], nominal: [nominal?.slot ?? ''] } })
    // the corner at 20 20 20 lies 1 mm inside of three faces; those at the origin touch
    expect(quantity(d, 'largest-missing')?.value).toBeCloseTo(-1, 6)
    expect(quantity(d, 'largest-extra')?.value).toBeCloseTo(0, 6)
    const field = (await all.state(job)).tray.find((i) => i.role === 'deviation')
    expect(field?.on).toBe(part?.slot)
    const csv = await (await fetch(`${all.url}/api/v1/items/${field?.id}/file`)).text()
    expect(csv.trim().split('\n').length).toBeGreaterThanOrEqual(9)
    const shown = unpack(await (await fetch(`${all.url}/api/v1/items/${field?.id}/display`)).arrayBuffer())
    expect(Math.min(...shown['values'])).toBeCloseTo(-1, 6)
  })
})

describe('a CAD nominal', () => {
  const plate = new Uint8Array(readFileSync(new URL('../../core/test/fixtures/cad/plate_holes_dev.step', import.meta.url)))
  test('keeps what each face is, through the database and the steps after; its exact volume is told', async () => {
    const job = (await all.newJob()).job.id
    const step = await all.bring(job, 'plate.step', plate, '&role=nominal')
    // the drawing's, by hand (plate_holes_dev.json)
    expect(quantity(step, 'volume')?.value).toBeCloseTo(101808.31985706951, 4)
    expect(quantity(step, 'faces')?.value).toBe(17)
    const [nominal] = (await all.state(job)).tray
    const surfaces: CadSurface[] = (await all.call('GET', `/items/${nominal.id}/surfaces`)).body
    expect(surfaces).toHaveLength(17)
    const bores = surfaces.flatMap((s) => (s.kind === 'cylinder' && s.hollow ? [s.radius] : [])).sort((a, b) => a - b)
    expect(bores).toEqual([5, 5, 5, 5, 9, 15].map((r) => expect.closeTo(r, 8)))
    await all.bring(job, 'cube.ply', cubePly(20))
    const cube = (await all.state(job)).tray.find((i) => i.role === 'mesh')
    expect((await all.call('GET', `/items/${cube?.id}/surfaces`)).body).toEqual([])
  })
  test('damaged, it is refused in words, and the worker goes on', async () => {
    const job = (await all.newJob()).job.id
    const hollow = await all.bring(job, 'hollow.step', 'ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\nENDSEC;\nEND-ISO-10303-21;\n', '&role=nominal')
    expect([hollow.state, hollow.problem?.code, hollow.problem?.where]).toEqual(['failed', 'bad-step', 'hollow.step'])
    expect((await all.bring(job, 'plate.step', plate, '&role=nominal')).state).toBe('done')
  })
  test('cancelled while the kernel reads, nothing is left', async () => {
    const job = (await all.newJob()).job.id
    // a file that was never read: one that was is there at once
    const other = new TextEncoder().encode(new TextDecoder().decode(plate).replace('HEADER;', 'HEADER; /* another */'))
    const r = await fetch(`${all.url}/api/v1/jobs/${job}/files?name=plate.step&role=nominal`, { method: 'PUT', body: other })
    const { id } = (await r.json()) as { id: string }
    let now = 'queued'
    while (now === 'queued') now = (await all.state(job)).steps.find((s) => s.id === id)?.state ?? 'gone'
    expect(now).toBe('running')
    expect((await all.call('POST', `/jobs/${job}/steps/${id}/cancel`)).status).toBe(202)
    expect((await all.finished(job, id)).state).toBe('cancelled')
    expect((await all.state(job)).tray).toEqual([])
  })
})

describe('the line to the browser', () => {
  test('events arrive at once, also for a client that takes compressed answers', async () => {
    const job = (await all.newJob()).job.id
    const stop = new AbortController()
    const r = await fetch(`${all.url}/api/v1/events?job=${job}`, { headers: { 'accept-encoding': 'gzip' }, signal: stop.signal })
    expect(r.headers.get('content-encoding')).toBeNull()
    const reader = (r.body as ReadableStream<Uint8Array>).getReader()
    await all.call('PATCH', `/jobs/${job}`, { part: 'x' })
    let text = ''
    while (!text.includes('changed')) text += new TextDecoder().decode((await reader.read()).value)
    expect(text).toContain(job)
    stop.abort()
  })
  /** Listens until so many have come, and says what was heard, with its numbers. */
  const hears = async (job: string, many: number, before?: string, meanwhile?: () => Promise<unknown>) => {
    const stop = new AbortController()
    const r = await fetch(`${all.url}/api/v1/events?job=${job}`, { signal: stop.signal, headers: before ? { 'last-event-id': before } : {} })
    const reader = (r.body as ReadableStream<Uint8Array>).getReader()
    const heard: { id: string; type: string }[] = []
    let text = ''
    while (heard.length < many) {
      text += new TextDecoder().decode((await reader.read()).value)
      const said = text.split('\n\n')
      text = said.pop() as string
      for (const s of said) {
        const [, id, data] = /^id: (.*)\ndata: (.*)$/.exec(s) ?? []
        if (id && heard.push({ id, type: (JSON.parse(data) as ServerEvent).type }) === 1) await meanwhile?.()
      }
    }
    stop.abort()
    return heard
  }
  test('whoever comes back hears what was said meanwhile, each once, and of his job alone; or that it is not known any more', async () => {
    const [job, other] = [(await all.newJob()).job.id, (await all.newJob()).job.id]
    const [here] = await hears(job, 1)
    expect(here.type).toBe('here')
    for (const part of ['a', 'b']) await all.call('PATCH', `/jobs/${job}`, { part })
    await all.call('PATCH', `/jobs/${other}`, { part: 'c' })
    const missed = await hears(job, 3, here.id)
    expect(missed.map((m) => m.type)).toEqual(['here', 'changed', 'changed'])
    expect((await hears(job, 2, missed[1].id)).map((m) => m.id)).toEqual([expect.any(String), missed[2].id])
    for (const strange of ['elsewhere.3', 'x', `${here.id.split('.')[0]}.99999999`])
      expect((await hears(job, 2, strange)).map((m) => m.type)).toEqual(['here', 'everything'])
    // more than is kept
    for (let k = 0; k < 6; k++)
      await all.db.pool.query(`select pg_notify('oak', '{"to":"browser","event":{"type":"changed","job":"' || g || '"}}') from generate_series(1, 100) g`)
    expect((await hears(job, 2, here.id)).map((m) => m.type)).toEqual(['here', 'everything'])
  })
  test('when the database had dropped the line between the programs, everybody is told that anything may have changed', async () => {
    const job = (await all.newJob()).job.id
    const cut = () => all.db.pool.query("select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'oak web'")
    expect((await hears(job, 2, undefined, cut)).map((m) => m.type)).toEqual(['here', 'everything'])
  })
  test('other hosts and other origins are turned away; health answers', async () => {
    expect((await all.call('GET', '/health')).body.ok).toBe(true)
    const foreign = await fetch(`${all.url}/api/v1/jobs`, { headers: { origin: 'http://elsewhere.example' } })
    expect(foreign.status).toBe(403)
  })
  test('heavy computing does not hold up the server', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const waits: number[] = []
    const [pass] = (await all.state(job)).tray
    const step = all.step(job, { operation: 'strays', inputs: { passes: [pass.slot] } })
    for (let i = 0; i < 20; i++) {
      const began = performance.now()
      await all.call('GET', '/health')
      waits.push(performance.now() - began)
    }
    await step
    expect(waits.sort((a, b) => a - b)[10]).toBeLessThan(50)
  })
})
