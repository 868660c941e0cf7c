import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import type { ArtefactSummary, CalibrationRun, JobState, MappingRun, ScannerDetail, ScannerSummary, Step } from '@oak-gauge/contract'
import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { readMarkers } from '@oak-gauge/core/formats/markers.ts'
import { compareMarkers } from '@oak-gauge/core/markers/compare.ts'
import { makeMarkers, worstUncertainty, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { setStage, stageInput, type Stage } from '../src/markers/stage.ts'
import { stockShelf } from '../src/scanners/demo.ts'
import { startAll, until, type All } from './help.ts'

let all: All
let job: JobState
const shelf: Record<string, string> = {}

const on = async (name: string) => {
  await all.call('PATCH', `/scanners/${shelf[name]}`, { on: true })
  await until(
    async () => (await all.call('GET', `/scanners/${shelf[name]}`)).body as ScannerDetail,
    (s) => s.link === 'connected' && s.state?.warm === true,
  )
}
const run = async <T>(name: string): Promise<T> => (await all.call('GET', `/scanners/${shelf[name]}/run`)).body
const act = (name: string, what: string, body: object = {}) => all.call('POST', `/scanners/${shelf[name]}/run/${what}`, body)
const list = async (item: string): Promise<Markers> =>
  readMarkers(await (await fetch(`${all.url}/api/v1/items/${item}/file?format=csv`)).text(), 'list', 'mm').markers
const tray = async (role: string) => (await all.state(job.job.id)).tray.filter((i) => i.role === role)
/** Led round until all that are planned are known well enough: on a slow machine a round has few frames, and one may be missing. */
async function mapped(name: string, planned: number): Promise<MappingRun> {
  for (let round = 1; ; round++) {
    await act(name, 'path')
    await pathOver(name)
    const live = (await all.call('GET', `/scanners/${shelf[name]}/mapping?after=-1`)).body as MappingRun
    if (round === 3 || (live.markers.length >= planned && live.markers.every((m) => m.state === 'enough'))) return live
  }
}
const pathOver = (name: string) =>
  until(
    () => run<MappingRun>(name),
    (r) => r.path === null,
    60,
  )

beforeAll(async () => {
  process.env['OAK_CLOCK'] = '4000'
  all = await startAll()
  await stockShelf()
  for (const s of (await all.call('GET', '/scanners')).body.items as ScannerSummary[]) shelf[s.name] = s.id
  // a calibration of today: the map can be no better than the scanner
  await on('Alder')
  const plate = ((await all.call('GET', '/artefacts')).body.items as ArtefactSummary[]).find((a) => a.name === 'Quoin 12')
  await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: plate?.id, way: 'script' })
  const c = await until(
    () => run<CalibrationRun>('Alder'),
    (r) => r.phase === 'done' || r.phase === 'failed',
    200,
  )
  await all.call('POST', `/scanners/${shelf['Alder']}/use/${c.calibration}`, {})
  job = await all.newJob('Marked part')
}, 300_000)
afterAll(() => all.stop())

describe('markers of a job', () => {
  let plan: Markers
  let stage: Stage

  it('are planned on a box of given size, with a sheet to print', async () => {
    const step = await all.step(job.job.id, { operation: 'plan-markers', params: { shape: { kind: 'box', x: 180, y: 120, z: 40 }, where: 'both' } })
    expect([step.state, step.problem]).toEqual(['done', null])
    const [item] = await tray('marker-plan')
    expect((await tray('shape')).length).toBe(1)
    plan = await list(item.id)
    expect(plan.ids.length).toBe(item.count)
    expect(step.evidence?.quantities.find((q) => q.id === 'directions-with-enough')?.value).toBe(100)
    const pdf = await fetch(`${all.url}/api/v1/items/${item.id}/placement.pdf`)
    const bytes = Buffer.from(await pdf.arrayBuffer())
    expect([pdf.status, bytes.subarray(0, 5).toString(), bytes.length > 8000]).toEqual([200, '%PDF-', true])
    const other = (await tray('shape'))[0].id
    expect((await fetch(`${all.url}/api/v1/items/${other}/placement.pdf`)).status).toBe(404)
  }, 60_000)

  it('planned again take the place of the plan, and stepping back brings it back', async () => {
    const [before] = await tray('marker-plan')
    const again = await all.step(job.job.id, {
      operation: 'plan-markers',
      inputs: { plan: [before.slot] },
      params: { shape: { kind: 'box', x: 180, y: 120, z: 40 }, where: 'around', sizes: 'large' },
    })
    expect(again.state).toBe('done')
    const now = await tray('marker-plan')
    expect(now).toHaveLength(1)
    expect(now[0].slot).toBe(before.slot)
    await all.call('POST', `/jobs/${job.job.id}/head`, { step: again.parent })
    expect((await tray('marker-plan'))[0].id).toBe(before.id)
  }, 60_000)

  it('are mapped with a scanner, to within its noise, under the names of the plan', async () => {
    const started = await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: job.setups[0].id })
    expect(started.status).toBe(202)
    expect((await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: job.setups[0].id })).status).toBe(409)
    const live = await mapped('Alder', plan.ids.length)
    expect(live.frames).toBeGreaterThan(100)
    expect(live.markers.filter((m) => m.state !== 'enough')).toEqual([])
    expect(live.markers.length).toBe(plan.ids.length)
    expect(live.absent).toEqual([])
    expect(live.scanner).not.toBeNull()
    const ended = (await act('Alder', 'end')).body as MappingRun
    expect([ended.phase, ended.problem]).toEqual(['done', null])
    const step = await all.finished(job.job.id, ended.step ?? '')
    expect([step.state, step.problem]).toEqual(['done', null])
    const [item] = await tray('marker-map')
    const map = await list(item.id)
    expect([...map.ids].sort()).toEqual([...plan.ids].sort())
    // what only the stand-in knew
    stage = await setStage(stageInput(step2params(await all.state(job.job.id)), await placedPlan(), null, 0))
    const truth = makeMarkers(stage)
    const d = compareMarkers(truth, map)
    expect(d.same).toHaveLength(plan.ids.length)
    const fit = fitRigid(
      d.same.flatMap((p) => [...map.positions.subarray(3 * p.b, 3 * p.b + 3)]),
      d.same.flatMap((p) => [...truth.positions.subarray(3 * p.a, 3 * p.a + 3)]),
    )
    expect(fit.rms).toBeLessThan(0.02)
    const stated = Math.sqrt(map.ids.reduce((s, _, i) => s + worstUncertainty(map.covariance, i) ** 2, 0) / map.ids.length)
    expect(stated).toBeLessThan(0.01)
    expect(fit.rms / stated).toBeLessThan(4)
    expect(step.recordedWith).toBeNull()
  }, 120_000)

  it('one that is knocked against is named while recording, and in the ledger', async () => {
    const [map] = await tray('marker-map')
    const started = await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: job.setups[0].id, known: map.slot })
    expect(started.status).toBe(202)
    await act('Alder', 'path')
    await until(
      () => run<MappingRun>('Alder'),
      (r) => (r.path ?? 0) > 0.5,
    )
    const missing = await act('Alder', 'nudge', { marker: 'no such', distance: 0.3 })
    expect([missing.status, missing.body.code]).toEqual([404, 'not-found'])
    const id = plan.ids[3]
    expect((await act('Alder', 'nudge', { marker: id, distance: 0.4 })).status).toBe(202)
    await pathOver('Alder')
    await act('Alder', 'path')
    const named = await until(
      () => run<MappingRun>('Alder'),
      (r) => r.moved.length > 0,
      40,
    )
    expect(named.moved.map((m) => m.id)).toEqual([id])
    expect(Math.abs(named.moved[0].distance - 0.4)).toBeLessThan(0.05)
    await act('Alder', 'hold')
    const held = await run<MappingRun>('Alder')
    expect(held.phase).toBe('held')
    const step = await all.finished(job.job.id, ((await act('Alder', 'end')).body as MappingRun).step ?? '')
    expect(step.evidence?.warnings.some((w) => w.startsWith(`Marker ${id} moved by 0.`))).toBe(true)
    const maps = await tray('marker-map')
    expect(maps).toHaveLength(1)
    expect(maps[0].slot).toBe(map.slot)
  }, 150_000)

  it('of another setup begin empty, or go on from those that travelled', async () => {
    await all.call('POST', `/jobs/${job.job.id}/setups`, { name: 'Upside down' })
    const setup = (await all.state(job.job.id)).setups[1]
    const [first] = await tray('marker-map')
    const started = await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: setup.id })
    // the first frame may have come before the answer: what it shows has no name yet, and nothing is known besides
    const { markers, frames } = started.body as MappingRun
    expect([markers.filter((m) => m.id !== '' || m.u !== null), markers.every((m) => m.sightings <= frames)]).toEqual([[], true])
    await until(
      () => run<MappingRun>('Alder'),
      (r) => r.frames > 20,
    )
    // the virtual hand, a real scanner would refuse it
    expect((await act('Alder', 'hand', { right: 20, away: 30 })).status).toBe(202)
    await act('Alder', 'cancel')
    const cancelled = await run<MappingRun>('Alder')
    expect([cancelled.phase, cancelled.problem?.code]).toEqual(['failed', 'cancelled'])
    expect(await tray('marker-map')).toHaveLength(1)
    const travelled = await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: setup.id, known: first.slot })
    expect((travelled.body as MappingRun).phase).toBe('recording')
    await act('Alder', 'cancel')
  }, 60_000)

  it('with a fixed scanner are mapped by turning the table', async () => {
    await on('Hazel')
    const small = await all.newJob('Small part')
    // Hazel sees a field of some 240 x 180 mm
    const scanner = { near: 220, ideal: 310, far: 400, focal: 1250, across: 0.37, up: 0.28 }
    await all.step(small.job.id, { operation: 'plan-markers', params: { shape: { kind: 'box', x: 60, y: 40, z: 25 }, where: 'around', scanner } })
    const started = await all.call('POST', `/jobs/${small.job.id}/mapping`, { scanner: shelf['Hazel'], setup: small.setups[0].id })
    expect(started.status).toBe(202)
    await act('Hazel', 'path')
    await pathOver('Hazel')
    const r = await run<MappingRun>('Hazel')
    expect(r.markers.length).toBeGreaterThan(5)
    expect(r.lost).toBeLessThan(0.2 * r.frames)
    await act('Hazel', 'cancel')
  }, 90_000)

  it('are refused with reasons: an arm, a scanner that is off, a setup that is not there', async () => {
    const start = (body: object) => all.call('POST', `/jobs/${job.job.id}/mapping`, body)
    const setup = job.setups[0].id
    expect((await start({ scanner: shelf['Rowan'], setup })).body.code).toBe('no-markers')
    expect((await start({ scanner: shelf['Birch'], setup })).body.code).toBe('not-connected')
    expect((await start({ scanner: shelf['Alder'], setup: shelf['Alder'] })).status).toBe(404)
    expect((await start({ scanner: shelf['Alder'] })).status).toBe(400)
    expect((await fetch(`${all.url}/api/v1/scanners/${shelf['Birch']}/mapping`)).status).toBe(204)
  })

  it('come in as a list; one in inches asks for its unit and is read again with it', async () => {
    const fresh = await all.newJob('List')
    const good = await all.bring(fresh.job.id, 'hall.csv', 'id,x,y,z\nA,0,0,0\nB,60,0,0\nC,0,50,0\nD,70,64,2\n', '&role=marker-map')
    expect(good.state).toBe('done')
    const inches = await all.bring(fresh.job.id, 'inch.csv', 'id,x,y,z\n1,0,0,0\n2,2.36,0,0\n3,0,2.1,0\n4,2.5,2.2,0.1\n', '&role=marker-map')
    expect([inches.state, inches.problem?.code]).toEqual(['failed', 'unit-unknown'])
    const again = (await all.call('POST', `/jobs/${fresh.job.id}/steps/${inches.id}/rerun`, { params: { unit: 'in' } })).body as Step[]
    expect((await all.finished(fresh.job.id, again[0].id)).state).toBe('done')
    const twice = await all.bring(fresh.job.id, 'twice.csv', 'A,0,0,0\nB,60,0,0\nA,0,50,0\n', '&role=marker-map')
    expect(twice.problem?.code).toBe('duplicate-id')
    expect((await all.state(fresh.job.id)).tray.filter((i) => i.role === 'marker-map')).toHaveLength(2)
  }, 60_000)

  it('of two setups bring their passes together, in the ledger and as a recipe that asks for both lists', async () => {
    const two = await all.newJob('Two setups')
    const id = two.job.id
    await all.call('POST', `/jobs/${id}/setups`, { name: 'Setup 2' })
    const setups = (await all.state(id)).setups
    const places = [
      [0, 0, 0],
      [61, 4, 0],
      [18, 55, 3],
      [80, 62, 0],
      [-44, 30, 0],
      [-20, -52, 2],
    ]
    const rows = (dx: number) => places.map(([x, y, z], i) => `${i + 1} ${x + dx} ${y} ${z} 0.01 0.01 0.01`).join('\n')
    await all.bring(id, 'first.txt', rows(0), `&role=marker-map&setup=${setups[0].id}`)
    await all.bring(id, 'second.txt', rows(200), `&role=marker-map&setup=${setups[1].id}`)
    const points = Array.from({ length: 400 }, (_, i) => `${200 + (i % 20)} ${Math.floor(i / 20)} 5`).join('\n')
    const pass = await all.bring(id, 'pass.xyz', points, `&setup=${setups[1].id}`)
    expect(pass.state).toBe('done')
    const before = (await all.state(id)).tray
    const slot = (name: string) => before.find((i) => i.name === name)?.slot ?? ''
    const joined = await all.step(id, { operation: 'join-markers', inputs: { anchor: [slot('first')], loose: [slot('second')], passes: [slot('pass')] } })
    expect([joined.state, joined.problem]).toEqual(['done', null])
    expect(joined.evidence?.quantities.find((q) => q.id === 'markers-in-common')?.value).toBe(6)
    const after = (await all.state(id)).tray.find((i) => i.slot === slot('pass'))
    expect(after?.pose[3]).toBeCloseTo(-200, 2)
    const recipe = (await all.call('GET', `/jobs/${id}/recipe`)).body
    expect(Object.keys(recipe.inputs)).toEqual(['passes1', 'map', 'map2'])
    expect(recipe.steps.map((s: { operation: string }) => s.operation)).toEqual(['join-markers'])
    expect(recipe.steps[0].inputs).toEqual({ anchor: ['map'], loose: ['map2'], passes: ['passes1'] })
    const stranger = await all.bring(id, 'stranger.txt', 'a 0 0 0\nb 90 0 0\nc 10 77 0\nd 120 40 9\ne 33 140 2', '&role=marker-map')
    const other = (await all.state(id)).tray.find((i) => i.step === stranger.id)?.slot ?? ''
    const refused = await all.step(id, { operation: 'join-markers', inputs: { anchor: [slot('first')], loose: [other] } })
    expect([refused.state, refused.problem?.code]).toEqual(['failed', 'no-match'])
  }, 60_000)

  const step2params = (s: JobState) => s.steps.find((x) => x.operation === 'plan-markers')?.params ?? {}
  const placedPlan = async () => {
    const [item] = await tray('marker-plan')
    const m = await list(item.id)
    // what they sit on is in the item, not in the list
    const a = await fetch(`${all.url}/api/v1/items/${item.id}/display`)
    const { unpack } = await import('@oak-gauge/contract')
    const arrays = unpack(await a.arrayBuffer())
    return { ...m, positions: arrays['positions'], normals: arrays['normals'], perch: arrays['perch'] }
  }
})
