import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { quantity, unpack, type JobState, type ServerEvent, type Step } from '@oak-gauge/contract'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { cap, cubePly, ran, startAll, tableAndBlock, until, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

const slotOf = (s: JobState, role: string) => s.tray.find((i) => i.role === role)?.slot ?? ''

describe('setups', () => {
  test('a second one is made and named; a pass goes where it is put, and the recipe tells them apart', async () => {
    const made = await all.newJob('Two setups')
    const job = made.job.id
    const two = (await all.call('POST', `/jobs/${job}/setups`, { name: 'Upside down' })).body as JobState
    expect(two.setups.map((s) => [s.name, s.place])).toEqual([
      ['Setup 1', 0],
      ['Upside down', 1],
    ])
    const [first, second] = two.setups.map((s) => s.id)
    await all.bring(job, 'a.xyz', tableAndBlock(), `&setup=${first}`)
    await all.bring(job, 'b.xyz', tableAndBlock(), `&setup=${first}`)
    const renamed = (await all.call('PATCH', `/jobs/${job}/setups/${second}`, { name: 'On its head' })).body as JobState
    expect(renamed.setups[1].name).toBe('On its head')
    expect(renamed.tray.map((i) => [i.name, i.setup])).toEqual([
      ['a', first],
      ['b', first],
    ])
    const moved = (await all.call('PATCH', `/jobs/${job}/slots/${renamed.tray[1].slot}`, { setup: second })).body as JobState
    expect(moved.tray.map((i) => i.setup)).toEqual([first, second])
    const recipe = (await all.call('GET', `/jobs/${job}/recipe`)).body
    expect(Object.keys(recipe.inputs)).toEqual(['passes1', 'passes2'])
  })
  test('no name, no such setup, no such pass: refused, nothing changed', async () => {
    const { job, setups } = await all.newJob()
    expect((await all.call('POST', `/jobs/${job.id}/setups`, { name: '' })).status).toBe(400)
    expect((await all.call('PATCH', `/jobs/${job.id}/setups/${job.id}`, { name: 'x' })).status).toBe(404)
    expect((await all.call('PATCH', `/jobs/${job.id}/slots/${job.id}`, { setup: null })).status).toBe(404)
    expect((await all.state(job.id)).setups).toEqual(setups)
  })
})

describe('the bench', () => {
  test('a card says where a job stands and what came out last', async () => {
    const job = (await all.newJob('Card')).job.id
    const card = async () => (await all.call('GET', '/jobs')).body.items.find((j: { id: string }) => j.id === job)
    await all.bring(job, 'pass.xyz', tableAndBlock())
    expect(await card()).toMatchObject({ passes: 1, busy: false, headline: 'Clean: 1 recorded passes wait' })
    const picture = await fetch(`${all.url}${(await card()).picture}`)
    expect([picture.headers.get('content-type'), picture.headers.get('cache-control')]).toEqual(['image/png', expect.stringContaining('immutable')])
    expect(Buffer.from(await picture.arrayBuffer()).toString('base64')).toMatch(/^iVBORw0KGgo/)
    await all.bring(job, 'part.ply', cubePly(20))
    await all.bring(job, 'nominal.ply', cubePly(20.02), '&role=nominal')
    const s = await all.state(job)
    await all.step(job, { operation: 'deviation', inputs: { measured: [slotOf(s, 'mesh')], nominal: [slotOf(s, 'nominal')] }, params: { limit: 0.1 } })
    expect(await card()).toMatchObject({ stage: 'Deliver', headline: 'Inspect: 100.0 % within 0.1 mm' })
  })
  test('a nominal shows until something is measured, and is called so', async () => {
    const job = (await all.newJob('Drawn')).job.id
    const card = async () => (await all.call('GET', '/jobs')).body.items.find((j: { id: string }) => j.id === job)
    expect(await card()).toMatchObject({ picture: null, ofNominal: false })
    await all.bring(job, 'nominal.ply', cubePly(20.04), '&role=nominal')
    const { picture, ofNominal } = await card()
    expect([ofNominal, (await fetch(`${all.url}${picture}`)).headers.get('content-type')]).toEqual([true, 'image/png'])
    await all.bring(job, 'pass.xyz', tableAndBlock())
    await all.bring(job, 'other.ply', cubePly(20.05), '&role=nominal')
    const now = await card()
    expect([now.ofNominal, now.picture === picture]).toEqual([false, false])
  })
  test('stepping back, the card shows the part as it was; the same file in another job brings name and picture of its own', async () => {
    const picture = async (job: string) => {
      const at = (await all.call('GET', '/jobs')).body.items.find((j: { id: string }) => j.id === job).picture as string | null
      return at && Buffer.from(await (await fetch(`${all.url}${at}`)).arrayBuffer()).toString('base64')
    }
    const job = (await all.newJob('Pictures')).job.id
    await all.bring(job, 'first.ply', cubePly(31))
    const early = await all.state(job)
    const cube = await picture(job)
    await all.bring(job, 'second.xyz', tableAndBlock())
    expect(await picture(job)).not.toBe(cube)
    await all.call('POST', `/jobs/${job}/head`, { step: early.head })
    expect(await picture(job)).toBe(cube)
    await all.call('POST', `/jobs/${job}/head`, { step: null })
    expect(await picture(job)).toBeNull()
    const other = (await all.newJob('Again')).job.id
    const step = await all.bring(other, 'first.ply', cubePly(31))
    expect([step.reused, await picture(other)]).toEqual([true, cube])
    await all.bring(other, 'another name.ply', cubePly(31))
    expect((await all.state(other)).tray.map((i) => i.name)).toEqual(['first', 'another name'])
  })
  test('cards follow every change, and a job that goes while they are read is left out', async () => {
    const titles = async () =>
      ((await all.call('GET', '/jobs')).body.items as { title: string; busy: boolean; passes: number }[]).map((j) => `${j.title} ${j.passes}`)
    const job = (await all.newJob('Follows')).job.id
    expect(await titles()).toContain('Follows 0')
    await all.bring(job, 'pass.xyz', `${tableAndBlock()}\n3 3 3\n`)
    expect(await titles()).toContain('Follows 1')
    await all.call('PATCH', `/jobs/${job}`, { title: 'Renamed' })
    expect(await titles()).toContain('Renamed 1')
    await all.call('POST', `/jobs/${job}/head`, { step: null })
    expect(await titles()).toContain('Renamed 0')
    const gone = await Promise.all(Array.from({ length: 8 }, (_, k) => all.newJob(`Gone ${k}`)))
    const [lists] = await Promise.all([
      Promise.all(Array.from({ length: 30 }, () => all.call('GET', '/jobs').then((r) => r.status))),
      Promise.all(gone.map((g) => all.call('DELETE', `/jobs/${g.job.id}`))),
    ])
    expect(new Set(lists)).toEqual(new Set([200]))
    expect((await titles()).filter((t) => t.startsWith('Gone'))).toEqual([])
  })
  test('a job that goes just when its card is written down is left out', async () => {
    const { id } = (await all.newJob('Going')).job
    const deleting = await all.db.pool.connect()
    try {
      await deleting.query('begin')
      await deleting.query('delete from job where id = $1', [id])
      const list = all.call('GET', '/jobs')
      const waits = async () => (await all.db.pool.query("select 1 from pg_stat_activity where wait_event_type = 'Lock' and query like '%job_card%'")).rowCount
      await until(waits, (n) => n === 1, 20)
      await deleting.query('commit')
      expect((await list).status).toBe(200)
    } finally {
      deleting.release()
    }
  })
  test('a job with a running step is not deleted; a finished one takes its numbers along', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(22))
    const mesh = slotOf(await all.state(job), 'mesh')
    const r = await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh] }, params: { count: 5_000_000 } })
    const refused = await all.call('DELETE', `/jobs/${job}`)
    expect([refused.status, refused.body.code]).toEqual([409, 'busy'])
    await all.call('POST', `/jobs/${job}/steps/${r.body.id}/cancel`)
    await all.finished(job, r.body.id)
    expect((await all.call('DELETE', `/jobs/${job}`)).status).toBe(204)
    for (const table of ['step', 'item', 'slot', 'setup']) expect((await all.db.pool.query(`select 1 from ${table} where job_id = $1`, [job])).rowCount).toBe(0)
  })
  test('requests that are no requests', async () => {
    const broken = await fetch(`${all.url}/api/v1/jobs`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"title": ' })
    expect([broken.status, ((await broken.json()) as { code: string }).code]).toEqual([400, 'bad-request'])
    expect((await all.call('GET', '/items/none/display')).status).toBe(404)
    expect((await all.call('GET', '/items/00000000-0000-4000-8000-000000000000/file')).status).toBe(404)
    const { job } = await all.newJob()
    expect((await all.call('POST', `/jobs/${job.id}/head`, { step: '00000000-0000-4000-8000-000000000000' })).status).toBe(404)
    expect((await all.call('POST', `/jobs/${job.id}/head`, { step: 'first' })).status).toBe(400)
    expect((await all.call('POST', `/jobs/${job.id}/steps/00000000-0000-4000-8000-000000000000/cancel`)).status).toBe(404)
  })
  test('every operation is described, with its settings as a JSON schema', async () => {
    const list = (await all.call('GET', '/operations')).body.items as {
      name: string
      settings: { properties?: Record<string, { default?: unknown; description?: string }> }
    }[]
    expect(list.length).toBeGreaterThan(15)
    const merge = list.find((o) => o.name === 'merge')
    expect(merge?.settings.properties?.['crisp']?.default).toBe(true)
    expect(merge?.settings.properties?.['cell']?.description).toContain('mm')
  })
})

describe('what the browser draws', () => {
  test('points with shading and their places in the whole; of a nominal every face; a pass that only moved is not stored again', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'pass.xyz', tableAndBlock())
    const [pass] = (await all.state(job)).tray
    const get = async (id: string, query = '') => {
      const r = await fetch(`${all.url}/api/v1/items/${id}/display${query}`)
      expect(r.headers.get('cache-control')).toContain('immutable')
      const buffer = await r.arrayBuffer()
      expect(Number(r.headers.get('content-length'))).toBe(buffer.byteLength)
      return unpack(buffer)
    }
    const shown = await get(pass.id)
    expect(Object.keys(shown).sort()).toEqual(['map', 'normals', 'xyz'])
    expect(shown['xyz'].length).toBe(3 * pass.shown)
    expect(pass.spacing).toBeCloseTo(1, 6)
    const whole = await get(pass.id, '?whole=1')
    for (let i = 0; i < 50; i++) {
      const at = shown['map'][i]
      expect([...shown['xyz'].subarray(3 * i, 3 * i + 3)]).toEqual([...whole['xyz'].subarray(3 * at, 3 * at + 3)])
    }
    const before = (await all.db.pool.query('select count(*) from blob')).rows[0].count
    const pairs = [
      [0, 0, 0],
      [9, 0, 0],
      [0, 9, 0],
    ].map((p) => ({ loose: p, anchor: [p[0] + 50, p[1], p[2]] }))
    await all.step(job, { operation: 'align-pairs', inputs: { loose: [pass.slot] }, params: { pairs } })
    const [moved] = (await all.state(job)).tray
    expect([moved.id === pass.id, moved.pose[3]]).toEqual([false, 50])
    expect((await all.db.pool.query('select count(*) from blob')).rows[0].count).toBe(before)
    expect([...(await get(moved.id))['xyz'].subarray(0, 9)]).toEqual([...shown['xyz'].subarray(0, 9)])
    // files hold no pose: what is written lies where the job has it
    const file = new Uint8Array(await (await fetch(`${all.url}/api/v1/items/${moved.id}/file?format=xyz`)).arrayBuffer())
    const back = (await readAny(bytesSource('x.xyz', file))).data
    expect(back.kind === 'points' && back.xyz[0]).toBeCloseTo(whole['xyz'][0] + 50, 3)
    const wrong = await all.call('GET', `/items/${moved.id}/file?format=stl`)
    expect([wrong.status, wrong.body.code]).toEqual([422, 'wrong-format'])
    expect((await all.call('GET', `/items/${moved.id}/file?format=dwg`)).body.code).toBe('wrong-format')
  })
  test('progress is told while a step runs, and only for the job that is listened to', async () => {
    const [job, other] = [(await all.newJob()).job.id, (await all.newJob()).job.id]
    await all.bring(job, 'cube.ply', cubePly(23))
    const mesh = slotOf(await all.state(job), 'mesh')
    const stop = new AbortController()
    const r = await fetch(`${all.url}/api/v1/events?job=${job}`, { signal: stop.signal })
    const heard: ServerEvent[] = []
    const listening = (async () => {
      let text = ''
      for await (const piece of r.body as unknown as AsyncIterable<Uint8Array>) {
        text += new TextDecoder().decode(piece)
        const lines = text.split('\n\n')
        text = lines.pop() ?? ''
        for (const l of lines.flatMap((x) => x.split('\n'))) if (l.startsWith('data: ')) heard.push(JSON.parse(l.slice(6)) as ServerEvent)
      }
    })().catch(() => undefined)
    await all.call('PATCH', `/jobs/${other}`, { part: 'not heard' })
    const step = await all.step(job, { operation: 'sample', inputs: { mesh: [mesh] }, params: { count: 1_200_000 } })
    await all.step(job, { operation: 'strays', inputs: { passes: [step.outputs['points'][0]] } })
    stop.abort()
    await listening
    expect(heard.some((e) => e.type === 'changed')).toBe(true)
    const progress = heard.filter((e) => e.type === 'progress')
    expect(progress.length).toBeGreaterThan(2)
    for (const e of progress) expect([e.progress >= 0 && e.progress <= 1, e.job]).toEqual([true, job])
    expect(heard.shift()).toEqual({ type: 'here' })
    expect(new Set(heard.map((e) => 'job' in e && e.job))).toEqual(new Set([job]))
  }, 120_000)
})

describe('the whole path', () => {
  test('from two setups to the table; its recipe gives the same figures without server or database', async () => {
    const made = await all.newJob('Ball')
    const job = made.job.id
    const under = ((await all.call('POST', `/jobs/${job}/setups`, { name: 'Under' })).body as JobState).setups[1].id
    const files: [string, string, string][] = [
      ['upper1.xyz', cap(0, true), ''],
      ['upper2.xyz', cap(1, true), ''],
      ['under1.xyz', cap(2, false), `&setup=${under}`],
    ]
    for (const [name, text, query] of files) expect((await all.bring(job, name, text, query)).state).toBe('done')
    await all.bring(job, 'nominal.ply', cubePly(30), '&role=nominal')
    const s = await all.state(job)
    const passes = s.tray.filter((i) => i.role === 'pass').map((i) => i.slot)
    const run = async (operation: string, inputs: Record<string, string[]>, params: Record<string, unknown> = {}): Promise<Step> => {
      const step = await all.step(job, { operation, inputs, params })
      expect([operation, step.state, step.problem]).toEqual([operation, 'done', null])
      return step
    }
    await run('thin', { passes }, { size: 0.2 })
    const adjusted = await run('adjust', { passes })
    const merged = await run('merge', { passes }, { cell: 0.6, closing: 'closed' })
    const facts = await run('facts', { mesh: merged.outputs['mesh'] })
    expect(Number(quantity(facts, 'volume')?.value) / ((4 / 3) * Math.PI * 15 ** 3)).toBeCloseTo(1, 2)
    await run('reduce', { mesh: merged.outputs['mesh'] }, { triangles: 4000 })
    const deviation = await run('deviation', { measured: merged.outputs['mesh'], nominal: [slotOf(s, 'nominal')] }, { maxDistance: 30 })
    // what the ledger knows cannot be talked away: figures that come along are replaced by its own
    const about = { of: 'x', about: [0, 0, 0], covariance: new Array<number>(36).fill(0) }
    const flagged = await run(
      'flag',
      { field: deviation.outputs['field'], on: merged.outputs['mesh'], nominal: [slotOf(s, 'nominal')] },
      { at: [5, 9.9, 10.1], radius: 0.8, limit: 20, lineage: { scanner: 0, alignment: [], placing: about }, stated: { scanner: 0.02 } },
    )
    const found = quantity(flagged, 'deviation')
    const part = (source: string) => found?.parts?.find((p) => p.source === source)
    expect([part('scanner'), part('placing')?.u, found?.u]).toEqual([{ source: 'scanner', u: 0.01, stated: true }, 'unknown', 'unknown'])
    expect(quantity(flagged, 'verdict')?.value).toBe('not decidable')
    // an eighth of the ball lies in the box: this place 5 mm from one face, and twice as far from the others
    expect(Math.abs(Number(quantity(flagged, 'deviation')?.value) + 5)).toBeLessThan(0.2)

    const folder = mkdtempSync(join(tmpdir(), 'oak-'))
    const recipe = (await all.call('GET', `/jobs/${job}/recipe`)).body
    expect(recipe.deliver.map((d: { file: string }) => d.file).sort()).toEqual(['field.csv', 'mesh.stl'])
    writeFileSync(join(folder, 'recipe.json'), JSON.stringify(recipe))
    for (const [name, text] of files) writeFileSync(join(folder, name), text)
    writeFileSync(join(folder, 'nominal.ply'), cubePly(30))
    const inputs = ['passes1=upper1.xyz', 'passes1=upper2.xyz', 'passes2=under1.xyz', 'nominal=nominal.ply'].flatMap((i) => ['--in', i])
    const oak = await ran('oak', ['run', 'recipe.json', ...inputs, '--out', 'out', '--json'], { cwd: folder })
    expect([oak.status, oak.stderr.includes('what to do')]).toEqual([0, false])
    const report = JSON.parse(oak.stdout) as { steps: { operation: string; evidence: Step['evidence'] }[] }
    const ledger = (await all.state(job)).steps.filter((x) => x.operation !== 'import')
    expect(report.steps.map((x) => x.operation)).toEqual(ledger.map((x) => x.operation))
    report.steps.forEach((x, i) => expect(x.evidence).toEqual(ledger[i].evidence))
    expect(quantity(adjusted, 'alignment-worst-pass')?.value).toBeDefined()
    // and the same files
    const item = (await all.state(job)).tray.find((i) => i.role === 'mesh')?.id
    const stl = Buffer.from(await (await fetch(`${all.url}/api/v1/items/${item}/file?format=stl`)).arrayBuffer())
    expect(readFileSync(join(folder, 'out/mesh.stl')).subarray(80).equals(stl.subarray(80))).toBe(true)
    const field = (await all.state(job)).tray.find((i) => i.role === 'deviation')?.id
    const csv = await (await fetch(`${all.url}/api/v1/items/${field}/file`)).text()
    expect(readFileSync(join(folder, 'out/field.csv'), 'utf8')).toBe(csv)

    // and on the server, on a part of its own: nothing is named, everything is found by its kind
    const second = await all.newJob('Ball, the second')
    const other = ((await all.call('POST', `/jobs/${second.job.id}/setups`, { name: 'Under' })).body as JobState).setups[1].id
    for (const [name, text, query] of files) await all.bring(second.job.id, name, text, query && `&setup=${other}`)
    await all.bring(second.job.id, 'nominal.ply', cubePly(30), '&role=nominal')
    const asked = await all.call('POST', `/jobs/${second.job.id}/recipe`, { recipe })
    expect([asked.status, (asked.body as Step[]).length]).toEqual([202, ledger.length])
    const last = await all.finished(second.job.id, (asked.body as Step[]).at(-1)?.id ?? '')
    expect([last.state, last.problem]).toEqual(['done', null])
    const repeated = (await all.state(second.job.id)).steps.filter((x) => x.operation !== 'import')
    repeated.forEach((x, i) => expect([x.operation, x.evidence]).toEqual([ledger[i].operation, ledger[i].evidence]))
    expect((await all.state(second.job.id)).tray.map((i) => i.role)).toEqual((await all.state(job)).tray.map((i) => i.role))
  }, 240_000)
})
