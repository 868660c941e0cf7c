import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import type { CaptureRun, MappingRun, ScannerDetail, Step } from '@oak-gauge/contract'
import { invertRigid, multiply, transformArray } from '@oak-gauge/core/base/mat4.ts'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { SessionRow } from '../src/db/scannermodels.ts'
import { sweepFrames } from '../src/sessions/framelog.ts'
import { records } from '../src/capture/records.ts'
import type { FromTracker, ToTracker } from '../src/capture/trackmessages.ts'
import { distancesTo } from '../../core/test/help.ts'
import { tray } from '../../core/test/tray.ts'
import { atTheShelf, evidence, type Shelf } from './capturing.ts'
import { until } from './help.ts'

let shelf: Shelf
beforeAll(async () => void (shelf = await atTheShelf('Alder', 'Birch')), 120_000)
afterAll(() => shelf.all.stop())

describe('recording by shape', () => {
  it('needs a setup of the job, a scanner that is led by hand, and a map where markers are to hold it', async () => {
    const { begin } = shelf
    expect((await begin('Birch', { setup: '00000000-0000-4000-8000-000000000000' })).status).toBe(404)
    expect((await begin('Birch', { by: 'own' })).body.code).toBe('no-own-pose')
    expect((await begin('Birch', { by: 'markers' })).body.code).toBe('no-map')
    expect((await begin('Birch', { spacing: 0 })).status).toBe(400)
    expect(await SessionRow.count()).toBe(0)
  })
  it('nothing is recorded before it is asked for; a hold is a hold; the process is killed, and hardly a frame is lost', async () => {
    const { all, begin, act, run, settled, line, passes, killed } = shelf
    const begun = await begin('Birch', { by: 'shape', spacing: 1.5 })
    expect([begun.status, begun.body.phase, begun.body.frames]).toEqual([202, 'ready', 0])
    expect((await begin('Birch')).status).toBe(409)
    await until(
      () => run('Birch'),
      (r) => r.inView > 3 && r.distance !== null,
    )
    expect((await run('Birch')).frames).toBe(0)
    await act('Birch', 'record')
    await act('Birch', 'path')
    const before = await until(
      () => run('Birch'),
      (r) => r.frames >= 40 && r.placed >= 20,
      60,
    )
    expect(before.surface.cubes).toBeGreaterThan(1000)
    await killed('Birch')
    const after = await until(
      () => run('Birch'),
      (r) => r.phase === 'recording',
      60,
    )
    // 17 frames a second
    expect(before.frames - after.frames).toBeLessThan(17)
    await act('Birch', 'hold')
    const held = await run('Birch')
    expect(held.phase).toBe('held')
    await new Promise((resolve) => setTimeout(resolve, 400))
    expect((await run('Birch')).frames).toBe(held.frames)
    // what was tracked before is tracked again
    await until(
      () => run('Birch'),
      (r) => r.placed >= 20,
      60,
    )
    // a part of the way round: the rest is where it should be seen next
    const { next } = await until(
      () => run('Birch'),
      (r) => r.next !== null,
    )
    expect(next!.poor).toBeGreaterThan(0)
    expect(next!.views.length).toBeGreaterThan(0)
    for (const { looks } of next!.views) expect(Math.hypot(...looks)).toBeCloseTo(1, 9)

    // the end of it is left out, with the last five frames that were placed: led back to what was before; and taken in again
    const { seconds, placed } = await settled('Birch')
    const cut = (spans: number[][]) => act('Birch', 'leave-out', { spans })
    const end = (await line('Birch')).filter(([, fate]) => fate === 0).at(-5)![0] - 0.001
    expect((await cut([[seconds, end]])).body).toMatchObject({ without: [[end, seconds]] })
    await until(
      () => run('Birch'),
      (r) => r.placed < placed,
    )
    // chunk by chunk: what is true when the last one is out
    const less = await settled('Birch')
    expect([less.tracking, less.ghost !== null, less.frames]).toEqual(['lost', true, held.frames])
    const out = await line('Birch')
    expect(out.every(([s, fate]) => (fate === 4) === s >= Math.fround(end))).toBe(true)
    await cut([])
    await until(
      () => run('Birch'),
      (r) => r.placed === placed,
    )
    expect((await line('Birch')).some(([, fate]) => fate === 4)).toBe(false)
    // of a span that holds all, nothing is left: it begins anew
    await cut([[0, seconds]])
    expect(
      await until(
        () => run('Birch'),
        (r) => r.placed === 0,
      ),
    ).toMatchObject({ tracking: 'first', ghost: null, surface: { cubes: 0 } })
    expect((await cut([[-1, 2]])).status).toBe(400)

    await act('Birch', 'cancel')
    expect(await passes()).toEqual([])
    expect(await SessionRow.count({ where: { state: 'open' } })).toBe(0)
    // what was given up is kept for a day
    expect(await sweepFrames(all.db.pool)).toBe(0)
    await SessionRow.update({ endedAt: new Date(Date.now() - 25 * 3_600_000) }, { where: {} })
    expect(await sweepFrames(all.db.pool)).toBeGreaterThan(3)
    expect(await sweepFrames(all.db.pool)).toBe(0)
  }, 240_000)
})

describe('recording by markers', () => {
  it('a pass from nothing: planned, mapped, recorded on a table, solved; it lies on the part, and the table is no part of it', async () => {
    const { all, job, begin, act, run, line, passes, led, finished, killed, offPart, shelf: ids } = shelf
    const nominal = (await all.state(job.job.id)).tray.find((i) => i.role === 'nominal')
    const plan = await all.step(job.job.id, { operation: 'plan-markers', inputs: { shape: [nominal!.slot] }, params: { where: 'around' } })
    expect([plan.state, plan.problem]).toEqual(['done', null])
    await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: ids['Alder'], setup: job.setups[0].id })
    await act('Alder', 'path')
    await led('Alder')
    const map = await finished(((await act('Alder', 'end')).body as MappingRun).step)
    expect([map.state, map.problem]).toEqual(['done', null])

    expect((await begin('Alder', { spacing: 1.5, table: true })).body.by).toBe('markers')
    await act('Alder', 'record')
    await act('Alder', 'path')
    const cubesOf = async ({ version }: CaptureRun['surface']) =>
      new Float32Array(await (await fetch(`${all.url}/api/v1/scanners/${ids['Alder']}/captured?version=${version}&from=0`)).arrayBuffer())
    const isShown = (c: Float32Array) => Array.from({ length: c.length / 7 }, (_, i) => c[7 * i + 6] > 0)
    const shares = async () => {
      const shown = isShown(await cubesOf((await run('Alder')).surface))
      return shown.filter((s) => s).length / Math.max(1, shown.length)
    }
    // the floor, while it is recorded
    const { floor } = await until(
      () => run('Alder'),
      (r) => r.placed >= 60,
      60,
    )
    expect([floor.floor, floor.found, floor.markers.length > 6]).toEqual(['none', null, true])
    expect((await act('Alder', 'floor', { floor: 'markers', floorMarkers: floor.markers.slice(0, 2) })).status).toBe(400)
    expect((await act('Alder', 'floor', { floor: 'markers', floorMarkers: ['no', 'such', 'marker'] })).body.code).toBe('unknown-markers')
    await act('Alder', 'floor', { floor: 'table' })
    const found = await until(
      () => run('Alder'),
      (r) => r.floor.found !== null,
    )
    expect([found.floor.raise, found.floor.problem, found.phase]).toEqual([0.5, null, 'recording'])
    expect(found.floor.found!.beneath).toBeGreaterThan(0.2)
    expect(found.floor.found!.sigma).toBeLessThan(0.1)
    const live = (await led('Alder')) as CaptureRun
    expect([live.problem, live.tracking, live.why]).toEqual([null, 'steady', ''])
    expect([live.frames > 200, live.placed + live.late > 0.9 * live.frames, live.contradicts]).toEqual([true, true, 0])
    expect([live.sigma !== null && live.sigma < 0.1, live.ghost]).toEqual([true, null])
    const cubes = await cubesOf(live.surface)
    expect([cubes.length % 7, cubes.length / 7 >= live.surface.cubes]).toEqual([0, true])
    expect((await all.call('GET', `/scanners/${ids['Alder']}/captured?version=99`)).status).toBe(204)

    // it grows where the part lies, and not in the axes of the first frame
    const shown = isShown(cubes)
    // what noise lifts out of the table was seen once
    const seen = shown.flatMap((s, i) => (s && cubes[7 * i + 6] > 2 ? [...cubes.subarray(7 * i, 7 * i + 3)] : []))
    const box = boundingBox(Float32Array.from(seen))
    const planned = nominal!.box!
    for (let k = 0; k < 6; k++) expect(Math.abs(box[k] - planned[k])).toBeLessThan(k < 3 ? 60 : 5)

    expect((await act('Alder', 'leave-out', { spans: [[1, 2]] })).body.code).toBe('not-held')
    await act('Alder', 'hold')
    // raised above all there is nothing left, and without one there is all of it
    await act('Alder', 'floor', { floor: 'table', raise: 50 })
    await until(shares, (s) => s < 0.02)
    await act('Alder', 'floor', { floor: 'none' })
    await until(shares, (s) => s > 0.98)
    await act('Alder', 'floor', { floor: 'table', raise: 0.6 })
    // drawn past its end, a span holds nothing of what comes when it goes on
    const over = (
      await act('Alder', 'leave-out', {
        spans: [
          [3, 9000],
          [8000, 9000],
        ],
      })
    ).body as CaptureRun
    expect(over.without).toEqual([[3, over.seconds]])
    await act('Alder', 'leave-out', {
      spans: [
        [4, 6],
        [2, 3],
      ],
    })
    // whoever takes the session over knows it
    await killed('Alder')
    const resumed = await until(
      () => run('Alder'),
      (r) => r.placed + r.late > 0.7 * r.frames,
      60,
    )
    expect([resumed.phase, resumed.floor.raise, resumed.without]).toEqual([
      'held',
      0.6,
      [
        [2, 3],
        [4, 6],
      ],
    ])
    await until(
      () => run('Alder'),
      (r) => r.floor.found !== null,
    )
    const times = await line('Alder')
    const isOut = ([s]: number[]) => (s >= 2 && s <= 3) || (s >= 4 && s <= 6)
    expect(times.filter(([, fate]) => fate === 4)).toEqual(times.filter(isOut))
    expect(times.filter(([, fate, sigma, known]) => fate === 0 && sigma < 0.1 && known > 0).length).toBeGreaterThan(
      0.7 * (times.length - times.filter(isOut).length),
    )

    const ended = (await act('Alder', 'end')).body as CaptureRun
    expect([ended.phase, ended.problem]).toEqual(['done', null])
    const cutStep = await finished(ended.step)
    expect([cutStep.state, cutStep.problem, cutStep.params['floor'], cutStep.params['raise']]).toEqual(['done', null, 'table', 0.6])
    expect(Number(evidence(cutStep, 'beneath-the-floor'))).toBeGreaterThan(0.3 * Number(evidence(cutStep, 'points-measured')))
    expect((await act('Alder', 'floor', { floor: 'none' })).body.code).toBe('not-held')
    expect([cutStep.params['without'], Number(evidence(cutStep, 'frames-set-aside'))]).toEqual([
      [
        [2, 3],
        [4, 6],
      ],
      times.filter(isOut).length,
    ])
    // all of it after all: the same step with other settings
    const [{ id }] = (await all.call('POST', `/jobs/${job.job.id}/steps/${cutStep.id}/rerun`, { params: { ...cutStep.params, without: [] } })).body as Step[]
    const step = await finished(id)
    expect([step.state, step.problem, evidence(step, 'frames-set-aside')]).toEqual(['done', null, undefined])
    // the flags of a part that is made of it ask how its scanner stood
    const { calibration, health } = (await all.call('GET', `/scanners/${ids['Alder']}`)).body as ScannerDetail
    expect([cutStep, step].map((s) => s.recordedWith)).toEqual(
      Array(2).fill(expect.objectContaining({ scanner: 'Alder', calibration: calibration?.id ?? null, state: health.state })),
    )
    expect(step.evidence!.timeline!.known.at(-1)).toBe(evidence(step, 'points'))
    expect(cutStep.evidence!.timeline!.known.at(-1)).toBeLessThan(step.evidence!.timeline!.known.at(-1)!)
    expect(Number(evidence(step, 'frames'))).toBe(live.frames === ended.frames ? live.frames : ended.frames)
    expect(Number(evidence(step, 'frames-not-placed'))).toBeLessThan(0.05 * ended.frames)
    const [pass] = await passes()
    expect(pass.name).toBe(`Pass 1, ${job.setups[0].name}`)
    // a hand stuck the markers a millimetre beside their places: the map lies so far from the nominal, and the pass with it
    expect((await offPart(pass.id)).rms).toBeLessThan(1)
    const fit = await all.step(job.job.id, { operation: 'best-fit', inputs: { measured: [pass.slot], nominal: [nominal!.slot] } })
    expect([fit.state, fit.problem]).toEqual(['done', null])
    const [laid] = await passes()
    const off = await offPart(laid.id)
    expect([off.share > 0.98, off.rms < 0.12, off]).toEqual([true, true, off])
    // what is left of the session is its record
    const kept = "select count(*)::int as n from session_chunk c join session s on s.id = c.session_id where s.state = 'done'"
    expect((await all.db.pool.query(kept)).rows).toEqual([{ n: 0 }])

    // the file is of the job: the same pass again, by somebody without a scanner
    const again = await all.step(job.job.id, { operation: 'thin', inputs: { passes: [pass.slot] }, params: { size: 2 } })
    expect(again.state).toBe('done')
  }, 400_000)
  it('another scanner over the same map: both passes lie in its axes, and on one another', async () => {
    const { all, job, begin, act, run, passes, finished, offPart } = shelf
    const state = await all.state(job.job.id)
    const [nominal, first] = ['nominal', 'pass'].map((role) => state.tray.find((i) => i.role === role)!)
    expect((await begin('Birch', { by: 'markers', spacing: 1.5, table: true })).body.by).toBe('markers')
    await act('Birch', 'record')
    await act('Birch', 'path')
    const live = await until(
      () => run('Birch'),
      (r) => r.placed >= 80,
      120,
    )
    expect([live.tracking, live.problem]).toEqual(['steady', null])
    await act('Birch', 'hold')
    await act('Birch', 'floor', { floor: 'table' })
    await until(
      () => run('Birch'),
      (r) => r.floor.found !== null,
    )
    const step = await finished(((await act('Birch', 'end')).body as CaptureRun).step)
    expect([step.state, step.problem, step.recordedWith?.scanner]).toEqual(['done', null, 'Birch'])
    const second = (await passes()).at(-1)!
    expect([second.setup, second.coloured, first.coloured]).toEqual([first.setup, true, false])
    const fit = await all.step(job.job.id, { operation: 'best-fit', inputs: { measured: [second.slot], nominal: [nominal.slot] } })
    expect([fit.state, fit.problem]).toEqual(['done', null])
    const laid = (await passes()).at(-1)!
    const off = await offPart(laid.id)
    expect([off.share > 0.95, off.rms < 0.2, off]).toEqual([true, true, off])
    // and where the first one says that the part is, it lies on the part as well
    const file = new Uint8Array(await (await fetch(`${all.url}/api/v1/items/${laid.id}/file?format=ply`)).arrayBuffer())
    const { data } = await readAny(bytesSource('pass.ply', file))
    if (data.kind !== 'points') throw new Error('no points')
    const there = transformArray(multiply(first.pose, invertRigid(Float64Array.from(laid.pose))), data.xyz, new Float32Array(data.xyz.length))
    const each = distancesTo(tray, there, 3).filter((d) => d < 3)
    expect(Math.sqrt(each.reduce((sum, d) => sum + d * d, 0) / each.length)).toBeLessThan(0.35)
  }, 240_000)
  it('an empty recording is refused at its end, and may be given up', async () => {
    const { begin, act, run } = shelf
    await begin('Alder', { spacing: 1 })
    const ended = (await act('Alder', 'end')).body as CaptureRun
    expect([ended.phase, ended.problem?.code]).toEqual(['held', 'nothing-recorded'])
    expect((await act('Alder', 'nonsense')).status).toBe(404)
    await act('Alder', 'cancel')
    expect((await run('Alder')).phase).toBe('failed')
  }, 60_000)
})

it('records of frames come back one by one', () => {
  const list = [Uint8Array.of(2, 0, 0, 0, 7, 8), Uint8Array.of(0, 0, 0, 0)]
  expect(records.decode(records.encode(list)).map((r) => [...r])).toEqual(list.map((r) => [...r]))
})

it('a frame that is none is refused in words, and the next ones are recorded all the same', async () => {
  const workerData = { by: 'shape', spacing: 2, noise: 0.08, stereo: {}, map: null }
  const thread = new Worker(fileURLToPath(new URL('../../.build/trackthread.js', import.meta.url)), { workerData })
  const heard: FromTracker[] = []
  const tracked = new Promise<void>((resolve, reject) => {
    thread.on('error', reject)
    thread.on('message', (m: FromTracker) => {
      heard.push(m)
      if (m.type === 'tracked') resolve()
    })
  })
  const frame = (z: number): ToTracker => ({ type: 'frame', time: 60, xyz: Float32Array.of(0, 0, z, 1, 1, 400), markers: [] })
  thread.postMessage(frame(NaN))
  thread.postMessage(frame(400))
  await tracked
  expect(heard.map((m) => m.type)).toEqual(['refused', 'record', 'tracked'])
  expect(heard[0]).toMatchObject({ detail: 'A frame holds a coordinate of NaN.', remedy: expect.stringContaining('millimetres') })
  await thread.terminate()
}, 30_000)
