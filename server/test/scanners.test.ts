import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import type { ArtefactSummary, CalibrationRun, ScannerDetail, ScannerSummary, VerificationDetail, VerificationRun } from '@oak-gauge/contract'
import { PNG } from 'pngjs'
import { BALL_BARS, PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { CalibrationRow } from '../src/db/scannermodels.ts'
import { stockShelf } from '../src/scanners/demo.ts'
import { cubePly, startAll, tableAndBlock, until, type All } from './help.ts'

let all: All
let artefacts: ArtefactSummary[]
const shelf: Record<string, string> = {}

beforeAll(async () => {
  // clocks so fast that every scanner is warm within a second
  process.env['OAK_CLOCK'] = '4000'
  all = await startAll()
  await stockShelf()
  for (const s of (await all.call('GET', '/scanners')).body.items as ScannerSummary[]) shelf[s.name] = s.id
  artefacts = (await all.call('GET', '/artefacts')).body.items
}, 60_000)
afterAll(() => all.stop())

const detail = async (name: string): Promise<ScannerDetail> => (await all.call('GET', `/scanners/${shelf[name]}`)).body
const artefact = (name: string) => artefacts.find((a) => a.name === name)!.id
const connected = (name: string) =>
  until(
    () => detail(name),
    (s) => s.link === 'connected' && s.state?.warm === true,
  )
const run = async <T>(name: string): Promise<T> => (await all.call('GET', `/scanners/${shelf[name]}/run`)).body

async function calibrate(name: string, way: string, plate: string, more: object = {}): Promise<CalibrationRun> {
  const begun = await all.call('POST', `/scanners/${shelf[name]}/calibrations`, { plate: artefact(plate), way, ...more })
  if (begun.status !== 202) throw new Error(JSON.stringify(begun.body))
  return until(
    () => run<CalibrationRun>(name),
    (r) => r.phase === 'done' || r.phase === 'failed',
    200,
  )
}
async function verifyWith(name: string, bar: string): Promise<VerificationDetail> {
  const begun = await all.call('POST', `/scanners/${shelf[name]}/verifications`, { bar: artefact(bar) })
  if (begun.status !== 202) throw new Error(JSON.stringify(begun.body))
  await all.call('POST', `/scanners/${shelf[name]}/run/take-all`, {})
  const r = await until(
    () => run<VerificationRun>(name),
    (v) => v.phase === 'done' || v.problem !== null,
    120,
  )
  if (!r.verification) throw new Error(JSON.stringify(r.problem))
  return (await all.call('GET', `/verifications/${r.verification}`)).body
}
/** All quantities proven to be inside their limits; says which are not. */
const passes = (v: VerificationDetail) =>
  expect(v.rows.filter((x) => x.verdict !== 'pass').map((x) => `${x.name} ${x.value.toFixed(4)} U ${x.uncertainty.toFixed(4)} of ${x.limit}`)).toEqual([])
const error = (v: VerificationDetail, what: string) => v.rows.find((r) => r.name === what)!

describe('a scanner through its life', () => {
  it('is switched on, warms up, and says that it was never calibrated', async () => {
    const before = await detail('Alder')
    expect([before.link, before.health.state]).toEqual(['off', 'no-go'])
    await all.call('PATCH', `/scanners/${shelf['Alder']}`, { on: true })
    const s = await connected('Alder')
    expect(s.state!.celsius).toBeGreaterThan(s.state!.room + 9)
    expect(s.warming.celsius.length).toBeGreaterThan(0)
    expect(s.standIn?.clock).toBe(4000)
  })

  it('is calibrated by the script, put into use, and then measures a ball bar within its limits', async () => {
    const r = await calibrate('Alder', 'script', 'Quoin 12')
    expect([r.phase, r.problem, r.taken]).toEqual(['done', null, 16])
    const used = await all.call('POST', `/scanners/${shelf['Alder']}/use/${r.calibration}`, {})
    expect([used.status, used.body.health.state]).toEqual([200, 'go'])
    const c = (await all.call('GET', `/calibrations/${r.calibration}`)).body
    expect(c.judgement.verdict).toBe('go')
    expect(c.result.rms).toBeLessThan(0.02)
    expect(c.result.covered).toBeGreaterThan(0.7)
    // every pose that was taken is in what it can be computed from again
    expect((await all.call('GET', `/calibrations/${r.calibration}/file`)).body.observations).toHaveLength(16)
    const v = await verifyWith('Alder', 'Windlass 300')
    passes(v)
    expect(Math.abs(error(v, 'distance').value)).toBeLessThan(0.03)
    expect(v.readings).toHaveLength(7)
    const pdf = await fetch(`${all.url}/api/v1/verifications/${v.id}/certificate.pdf`)
    const bytes = Buffer.from(await pdf.arrayBuffer())
    expect([pdf.status, bytes.subarray(0, 5).toString()]).toEqual([200, '%PDF-'])
    expect((await detail('Alder')).health.reason).toBe('Calibrated and verified.')
  }, 240_000)

  it('dropped, it is due at once; the ball bar says no-go; calibrating anew restores it; and one can roll back', async () => {
    const first = (await detail('Alder')).calibration!.id
    await all.call('POST', `/scanners/${shelf['Alder']}/drop`, {})
    const knocked = await until(
      () => detail('Alder'),
      (s) => s.health.state !== 'go',
    )
    expect(knocked.health.reason).toMatch(/knock/)
    const bad = await verifyWith('Alder', 'Windlass 300')
    expect(bad.verdict).toBe('fail')
    expect(Math.abs(error(bad, 'distance').value)).toBeGreaterThan(0.1)
    expect((await detail('Alder')).health.state).toBe('no-go')
    const r = await calibrate('Alder', 'script', 'Quoin 12')
    await all.call('POST', `/scanners/${shelf['Alder']}/use/${r.calibration}`, {})
    const good = await verifyWith('Alder', 'Windlass 300')
    passes(good)
    const s = await detail('Alder')
    expect(s.health.state).toBe('go')
    expect(s.calibrations).toHaveLength(2)
    const back = await all.call('POST', `/scanners/${shelf['Alder']}/use/${first}`, {})
    expect(back.body.calibration.id).toBe(first)
    expect(back.body.notes[0].text).toMatch(/Rolled back/)
    await all.call('POST', `/scanners/${shelf['Alder']}/use/${r.calibration}`, {})
  }, 400_000)

  it('Hazel calibrates by herself on her turntable', async () => {
    await all.call('PATCH', `/scanners/${shelf['Hazel']}`, { on: true })
    await connected('Hazel')
    const r = await calibrate('Hazel', 'turntable', 'Quoin 8')
    expect([r.phase, r.problem]).toEqual(['done', null])
    expect(r.taken).toBeGreaterThanOrEqual(14)
    await all.call('POST', `/scanners/${shelf['Hazel']}/use/${r.calibration}`, {})
    const v = await verifyWith('Hazel', 'Windlass 150')
    expect([v.verdict, Math.abs(error(v, 'distance').value) < 0.02]).toEqual(['pass', true])
  }, 240_000)

  it.each([
    ['Birch', 'Quoin 20'],
    ['Rowan', 'Quoin 4'],
  ])(
    '%s passes as well',
    async (name, plate) => {
      await all.call('PATCH', `/scanners/${shelf[name]}`, { on: true })
      await connected(name)
      const r = await calibrate(name, 'script', plate)
      expect([r.phase, r.problem]).toEqual(['done', null])
      await all.call('POST', `/scanners/${shelf[name]}/use/${r.calibration}`, {})
      const v = await verifyWith(name, 'Windlass 300')
      passes(v)
      await all.call('PATCH', `/scanners/${shelf[name]}`, { on: false })
    },
    240_000,
  )
})

describe('a job and its scanner', () => {
  it('keeps beside each pass how the scanner stood when it came in; other files have none', async () => {
    const job = (await all.newJob('With Hazel')).job.id
    const patched = await all.call('PATCH', `/jobs/${job}`, { scanner: shelf['Hazel'] })
    expect([patched.status, patched.body.job.scanner, patched.body.job.title]).toEqual([200, shelf['Hazel'], 'With Hazel'])
    const pass = await all.bring(job, 'pass.xyz', tableAndBlock(), '&role=pass&unit=mm')
    const { calibration, health, verification } = await detail('Hazel')
    const row = verification?.rows.find((r) => r.name === 'distance')
    expect(pass.recordedWith).toEqual({
      scanner: 'Hazel',
      calibration: calibration?.id,
      state: health.state,
      reason: health.reason,
      distance: { error: row?.value, U: row?.uncertainty },
    })
    expect(Math.abs(row?.value ?? 9)).toBeLessThan(0.1)
    const mesh = await all.bring(job, 'cube.ply', cubePly(20), '&role=mesh&unit=mm')
    expect(mesh.recordedWith).toBeNull()
  })
})

describe('from recorded images', () => {
  const put = async (bytes: Buffer, side: string, pair: number) => {
    const r = await fetch(`${all.url}/api/v1/scanners/${shelf['Rowan']}/images?side=${side}&pair=${pair}&name=${side}${pair}.png`, {
      method: 'PUT',
      body: new Uint8Array(bytes),
      headers: { connection: 'close' },
    })
    return { status: r.status, body: (await r.json()) as { code?: string; detail?: string } }
  }
  // a whole calibration from files is tried in e2e/tests/scanners.spec.ts: packing images is slow under Jest
  it('needs an open run; what is no image, or not of these cameras, is refused, and the run goes on', async () => {
    expect((await put(Buffer.from('no image'), 'left', 0)).body.code).toBe('no-run')
    await all.call('POST', `/scanners/${shelf['Rowan']}/calibrations`, { plate: artefact('Quoin 4'), way: 'files' })
    expect((await put(Buffer.from('no image at all'), 'left', 0)).body).toMatchObject({ code: 'bad-image', where: 'left0.png' })
    expect((await put(Buffer.from([0x89, 0x50, 0x4e, 0x47, 1, 2, 3, 4, 5, 6]), 'left', 0)).body).toMatchObject({
      code: 'bad-image',
      detail: 'The image is damaged.',
    })
    const small = PNG.sync.write(new PNG({ width: 64, height: 64 }))
    expect((await put(small, 'left', 9)).status).toBe(200)
    expect((await put(small, 'right', 9)).body.detail).toMatch(/64 x 64 pixels; the cameras of Rowan have 1024 x 768/)
    expect((await all.call('POST', `/scanners/${shelf['Rowan']}/run/solve`, {})).body.problem.code).toBe('too-few-poses')
    expect((await all.call('POST', `/scanners/${shelf['Rowan']}/run/cancel`, {})).body.phase).toBe('failed')
  })
})

describe('what goes wrong is said, and the run goes on', () => {
  it('a cold scanner wants an explicit anyway, which is recorded', async () => {
    process.env['OAK_CLOCK'] = '1'
    await all.call('PATCH', `/scanners/${shelf['Birch']}`, { on: false })
    await all.call('PATCH', `/scanners/${shelf['Birch']}`, { on: true })
    await until(
      () => detail('Birch'),
      (s) => s.link === 'connected',
    )
    const refused = await all.call('POST', `/scanners/${shelf['Birch']}/calibrations`, { plate: artefact('Quoin 20'), way: 'script' })
    expect([refused.status, refused.body.code]).toEqual([409, 'cold'])
    const r = await calibrate('Birch', 'script', 'Quoin 20', { cold: true, targets: 6 })
    expect(r.phase).toBe('done')
    await all.call('POST', `/scanners/${shelf['Birch']}/use/${r.calibration}`, {})
    const s = await detail('Birch')
    expect([s.health.state, s.health.reason, s.notes.some((n) => /not warm/.test(n.text))]).toEqual(['due', 'It was calibrated cold.', true])
    process.env['OAK_CLOCK'] = '4000'
  }, 120_000)

  it('the file of another plate', async () => {
    const begun = await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Quoin 4'), way: 'hand', onBench: artefact('Quoin 12') })
    expect(begun.status).toBe(202)
    const r = await until(
      () => run<CalibrationRun>('Alder'),
      (x) => x.trouble !== null,
    )
    expect(r.trouble).toMatchObject({ code: 'wrong-plate', message: 'The dots in view are not those of Quoin 4.' })
    await all.call('POST', `/scanners/${shelf['Alder']}/run/cancel`, {})
    expect((await run<CalibrationRun>('Alder')).problem?.code).toBe('cancelled')
  }, 60_000)

  it('too much light: said, and put right by the exposure', async () => {
    await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Quoin 12'), way: 'hand' })
    const set = await all.call('PATCH', `/scanners/${shelf['Alder']}`, { exposure: 2.6 })
    expect([set.status, set.body.state.exposure]).toEqual([200, 2.6])
    const over = await until(
      () => run<CalibrationRun>('Alder'),
      (x) => x.trouble !== null,
    )
    expect(over.trouble?.code).toBe('overexposed')
    await all.call('PATCH', `/scanners/${shelf['Alder']}`, { exposure: 1 })
    await until(
      () => run<CalibrationRun>('Alder'),
      (x) => x.trouble === null && x.match !== null,
    )
    expect((await all.call('PATCH', `/scanners/${shelf['Alder']}`, { exposure: -1 })).status).toBe(400)
    await all.call('POST', `/scanners/${shelf['Alder']}/run/cancel`, {})
  }, 60_000)

  it('by hand: the plate is moved to its target, held still, and taken; a second run is refused meanwhile', async () => {
    await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Quoin 12'), way: 'hand' })
    const again = await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Quoin 12'), way: 'hand' })
    expect([again.status, again.body.code]).toEqual([409, 'busy'])
    for (let taken = 0; taken < 3; taken++) {
      const r = await until(
        () => run<CalibrationRun>('Alder'),
        (x) => x.match !== null && x.target === taken,
      )
      const { away, right, down, topAway, rightAway, turn } = r.match!
      await all.call('POST', `/scanners/${shelf['Alder']}/run/hand`, { away, right, down, topAway, rightAway, turn })
      await until(
        () => run<CalibrationRun>('Alder'),
        (x) => x.taken === taken + 1,
      )
    }
    const live = await fetch(`${all.url}/api/v1/scanners/${shelf['Alder']}/live?after=0`)
    expect([live.status, (await live.arrayBuffer()).byteLength > 2 * 512 * 384]).toEqual([200, true])
  }, 120_000)

  it('the link breaks: said at once, the session kept, and it goes on', async () => {
    // the process of the stand-in is killed from outside
    all.killStandIn('alder')
    await until(
      () => run<CalibrationRun>('Alder'),
      (x) => x.phase === 'waiting',
      20,
    )
    expect((await detail('Alder')).link).not.toBe('connected')
    const r = await until(
      () => run<CalibrationRun>('Alder'),
      (x) => x.phase === 'looking',
      30,
    )
    expect(r.taken).toBe(3)
    const solved = await all.call('POST', `/scanners/${shelf['Alder']}/run/solve`, {})
    expect(solved.body.problem).toMatchObject({ code: 'too-few-poses' })
    await all.call('POST', `/scanners/${shelf['Alder']}/run/cancel`, {})
    const kept = await CalibrationRow.findOne({ where: { scannerId: shelf['Alder'] }, order: [['at', 'DESC']] })
    expect([kept?.state, kept?.observations.length]).toEqual(['cancelled', 3])
  }, 90_000)

  it('a link that breaks in the middle of all positions: the rest is measured when it is back', async () => {
    await connected('Alder')
    await all.call('POST', `/scanners/${shelf['Alder']}/verifications`, { bar: artefact('Windlass 300') })
    await all.call('POST', `/scanners/${shelf['Alder']}/run/take-all`, {})
    await until(
      () => run<VerificationRun>('Alder'),
      (r) => r.readings.length >= 2,
    )
    all.killStandIn('alder')
    await until(
      () => run<VerificationRun>('Alder'),
      (r) => r.phase === 'waiting',
    )
    const r = await until(
      () => run<VerificationRun>('Alder'),
      (v) => v.phase === 'done',
      120,
    )
    expect([r.readings.length, r.problem]).toEqual([7, null])
  }, 120_000)

  it('certificates with NaN, of the wrong kind, or with an outside dot', async () => {
    const put = async (body: string) => {
      const r = await fetch(`${all.url}/api/v1/artefacts?name=plate.json`, { method: 'PUT', body })
      return { status: r.status, body: (await r.json()) as { detail: string; where: string } }
    }
    const nan = await put(JSON.stringify(PLATES[0]).replace('"pitch":4', '"pitch":NaN'))
    expect([nan.status, nan.body.detail]).toEqual([422, 'The certificate says NaN where a number belongs.'])
    expect((await put('{"format":"something"}')).status).toBe(422)
    expect((await put(JSON.stringify({ ...PLATES[0], large: [[40, 1]] }))).body.detail).toMatch(/outside of the plate/)
    const bar = await put(JSON.stringify({ ...BALL_BARS[0], id: 'W300b', distance: -1 }))
    expect([bar.status, bar.body.where]).toEqual([422, 'plate.json, distance'])
    expect((await put(JSON.stringify({ ...BALL_BARS[0], id: 'W300b' }))).status).toBe(201)
  })

  it('artefacts are listed with the day their certificate ends, and given back as files', async () => {
    const list = (await all.call('GET', '/artefacts')).body.items as ArtefactSummary[]
    expect(list.find((a) => a.name === 'Quoin 8')).toMatchObject({ kind: 'plate', size: 8, certificate: { date: '2026-03-11', ends: '2028-03-11' } })
    expect((await all.call('GET', `/artefacts/${artefact('Quoin 8')}/file`)).body).toEqual(PLATES[1])
  })

  it('what does not exist, or does not belong together, is refused', async () => {
    const nobody = '6f1c0f3e-7a60-4a0c-9d6e-0d4a7c1f9b10'
    const codes = await Promise.all(
      [
        all.call('GET', `/scanners/${nobody}`),
        all.call('GET', `/calibrations/${nobody}`),
        all.call('GET', `/verifications/${nobody}`),
        all.call('GET', `/artefacts/${nobody}/file`),
        all.call('POST', `/scanners/${shelf['Alder']}/use/${nobody}`, {}),
        all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Windlass 300'), way: 'script' }),
        all.call('POST', `/scanners/${shelf['Alder']}/run/sing`, {}),
      ].map(async (r) => (await r).body.code as string),
    )
    expect(codes).toEqual(codes.map(() => 'not-found'))
    expect((await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: artefact('Quoin 12'), way: 'turntable' })).body.code).toBe(
      'no-turntable',
    )
    // a calibration of another scanner is none of this one
    const hazel = (await detail('Hazel')).calibration!.id
    expect((await all.call('POST', `/scanners/${shelf['Alder']}/use/${hazel}`, {})).body.code).toBe('not-found')
  })

  it('a scanner that is switched off: said, with what to do', async () => {
    await all.call('PATCH', `/scanners/${shelf['Rowan']}`, { on: false })
    for (const [path, body] of [
      ['calibrations', { plate: artefact('Quoin 4'), way: 'hand' }],
      ['verifications', { bar: artefact('Windlass 300') }],
      ['drop', {}],
    ] as const) {
      const r = await all.call('POST', `/scanners/${shelf['Rowan']}/${path}`, body)
      expect([path, r.status, r.body.code, r.body.remedy]).toEqual([path, 409, 'not-connected', 'Switch it on.'])
    }
  })

  it('a calibration that is no-go cannot be put into use', async () => {
    const row = await CalibrationRow.findOne({ where: { scannerId: shelf['Hazel'], state: 'done' } })
    await row!.update({ judgement: { verdict: 'no-go', findings: [{ level: 'stop', message: 'm', remedy: 'Check the plate file.' }] } })
    const r = await all.call('POST', `/scanners/${shelf['Hazel']}/use/${row!.id}`, {})
    expect([r.status, r.body.code, r.body.remedy]).toEqual([422, 'no-go', 'Check the plate file.'])
    expect((await detail('Hazel')).health.reason).toBe('The last calibration is not fit for use.')
  })

  it('a verification that is given up leaves nothing behind', async () => {
    const before = (await connected('Alder')).verifications.length
    const begun = await all.call('POST', `/scanners/${shelf['Alder']}/verifications`, { bar: artefact('Windlass 300') })
    expect([begun.status, begun.body.kind]).toEqual([202, 'verification'])
    await all.call('POST', `/scanners/${shelf['Alder']}/run/take`, {})
    const r = await all.call('POST', `/scanners/${shelf['Alder']}/run/cancel`, {})
    expect([r.body.phase, r.body.readings.length]).toEqual(['failed', 1])
    expect((await detail('Alder')).verifications).toHaveLength(before)
  }, 60_000)

  it('an address where nothing answers, or something else', async () => {
    const none = await all.call('POST', '/scanners', { address: 'ws://127.0.0.1:9' })
    expect([none.status, none.body.code]).toEqual([422, 'no-scanner'])
    const other = await all.call('POST', '/scanners', { address: all.url.replace('http', 'ws') })
    expect([other.status, other.body.code]).toEqual([422, 'no-scanner'])
    expect((await all.call('POST', '/scanners', { address: 'alder' })).status).toBe(400)
  })
})
