import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { ArtefactSummary, CalibrationRun, JobState, MappingRun, RunState, ScannerDetail, ScannerSummary, VerificationRun } from '@oak-gauge/contract'
import { stockShelf } from '../src/scanners/demo.ts'
import { SessionRow } from '../src/db/scannermodels.ts'
import { FrameLog, storedFrames } from '../src/sessions/framelog.ts'
import { decodeFrames, encodeFrames, markerFrames, rounded } from '../src/sessions/frames.ts'
import { spooled } from '../src/sessions/spool.ts'
import { fromPlain, toPlain } from '../src/sessions/plain.ts'
import { startAll, until, type All } from './help.ts'

let all: All
let job: JobState
let artefacts: ArtefactSummary[]
const shelf: Record<string, string> = {}

const run = async <T extends RunState>(name: string): Promise<T | null> => (await all.call('GET', `/scanners/${shelf[name]}/run`)).body
const act = (name: string, what: string, body: object = {}) => all.call('POST', `/scanners/${shelf[name]}/run/${what}`, body)
const on = async (name: string) => {
  await all.call('PATCH', `/scanners/${shelf[name]}`, { on: true })
  await warm(name)
}
const warm = (name: string) =>
  until(
    async () => (await all.call('GET', `/scanners/${shelf[name]}`)).body as ScannerDetail,
    (s) => s.link === 'connected' && s.state?.warm === true,
  )
/** The process that keeps the scanners is killed without a word, and another one takes its place. */
async function killed(meanwhile: () => Promise<unknown> = () => Promise.resolve()): Promise<void> {
  const gone = new Promise((resolve) => all.sessions().once('exit', resolve))
  all.sessions().kill('SIGKILL')
  await gone
  await meanwhile()
  await all.startSessions()
}
const ended = (name: string) =>
  until(
    () => run(name),
    (r) => r?.phase === 'done' || r?.phase === 'failed',
    200,
  )

beforeAll(async () => {
  process.env['OAK_CLOCK'] = '4000'
  all = await startAll({ apart: true })
  await stockShelf()
  for (const s of (await all.call('GET', '/scanners')).body.items as ScannerSummary[]) shelf[s.name] = s.id
  artefacts = (await all.call('GET', '/artefacts')).body.items
  job = await all.newJob('Marked part')
  await on('Alder')
}, 120_000)
afterAll(() => all.stop())

describe('what a session keeps', () => {
  test('frames come back as they were written, to the stated step', () => {
    const frames = Array.from({ length: 40 }, (_, k) => ({
      time: 1000.25 + 60 * k,
      markers: rounded([0.1 * k, -312.44447, 489.99999, 6.0001, 1e5, -1e5, 0, 3]),
    }))
    frames.push({ time: 9e6, markers: [] })
    expect(decodeFrames(encodeFrames(frames))).toEqual(frames)
    for (const v of [0, -0.00004, 0.00006, 123.45678]) expect(Math.abs(rounded([v])[0] - v)).toBeLessThanOrEqual(0.500001e-4)
  })
  test('typed arrays within options come back with their type and every bit', () => {
    const o = {
      a: Float64Array.of(1 / 3, NaN, -0),
      b: [{ c: Float32Array.of(0.1) }, null],
      d: Uint8Array.of(1, 2),
      e: 'x',
      f: Uint32Array.from([7]).subarray(0, 1),
    }
    expect(fromPlain(JSON.parse(JSON.stringify(toPlain(o))))).toEqual(o)
  })
  test('frames that the database did not take wait, and none is stored twice or in another order', async () => {
    const record = await SessionRow.create({ kind: 'mapping', scannerId: shelf['Birch'], holder: job.job.id, options: {}, state: 'done' })
    let answers = 0
    const pool = {
      query: async (text: string, values: unknown[]) => {
        answers++
        // first never arrives; then arrives, but its answer is lost
        if (answers === 1) throw new Error('cut')
        const r = await all.db.pool.query(text, values)
        if (answers === 2) throw new Error('cut')
        return r
      },
    }
    const kept = new FrameLog(pool as never, record.id, markerFrames)
    for (let k = 0; k < 6; k++) {
      kept.add({ time: k, markers: [k, 0, 0, 3] })
      await kept.flush()
    }
    const times: number[] = []
    for await (const chunk of storedFrames(all.db.pool, record.id, markerFrames)) times.push(...chunk.map((f) => f.time))
    expect(times).toEqual([0, 1, 2, 3, 4, 5])
    expect(answers).toBe(6)
    expect(await spooled(record.id, 6, 1, markerFrames)).toEqual([])
  })
  test('frames that came while the database was away are not lost when the process ends as well, nor stored twice', async () => {
    const record = await SessionRow.create({ kind: 'mapping', scannerId: shelf['Birch'], holder: job.job.id, options: {}, state: 'done' })
    const frame = (k: number) => ({ time: k, markers: [k, 0, 0, 3] })
    const stored = async () => {
      const chunks: number[][] = []
      for await (const chunk of storedFrames(all.db.pool, record.id, markerFrames)) chunks.push(chunk.map((f) => f.time))
      return chunks
    }
    const first = new FrameLog(all.db.pool, record.id, markerFrames)
    first.add(frame(0))
    await first.flush()
    let [arrives, ended] = [false, false]
    const away = {
      query: async (text: string, values: unknown[]) => {
        if (ended) return
        if (arrives) await all.db.pool.query(text, values)
        throw new Error('cut')
      },
    }
    const second = new FrameLog(away as never, record.id, markerFrames, 1)
    for (const k of [1, 2]) second.add(frame(k))
    // these arrive, though nobody hears of it
    arrives = true
    await second.flush()
    arrives = false
    for (const k of [3, 4]) second.add(frame(k))
    await second.flush()
    expect(await stored()).toEqual([[0], [1, 2]])
    // the process ends; the next one asks what is left
    const left = await spooled(record.id, 2, 2, markerFrames)
    ended = true
    await second.flush()
    expect(left.map((f) => f.time)).toEqual([3, 4])
    const third = new FrameLog(all.db.pool, record.id, markerFrames, 2, left)
    third.add(frame(5))
    await third.flush()
    expect((await stored()).flat()).toEqual([0, 1, 2, 3, 4, 5])
    expect(await spooled(record.id, 2, 2, markerFrames)).toEqual([])
    // of a session that nobody knows, and where the database is further than the disk
    expect(await spooled('no-such-session', 0, 0, markerFrames)).toEqual([])
  })
})

describe('the process that keeps the scanners is killed', () => {
  test('a calibration goes on by itself with the poses it had, and ends with all of them', async () => {
    const plate = artefacts.find((a) => a.name === 'Quoin 12')
    expect((await all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: plate?.id, way: 'script' })).status).toBe(202)
    const before = (await until(
      () => run<CalibrationRun>('Alder'),
      (r) => (r?.taken ?? 0) >= 5,
    )) as CalibrationRun
    // at the worst moment: the pose was stored, and not yet that the next one is due
    await killed(() =>
      all.db.pool.query("update session set progress = jsonb_set(progress, '{target}', to_jsonb((progress->>'target')::int - 1)) where state = 'open'"),
    )
    const after = (await run<CalibrationRun>('Alder')) as CalibrationRun
    expect(after.taken).toBeGreaterThanOrEqual(before.taken)
    before.coverage.left.counts.forEach((c, i) => expect(after.coverage.left.counts[i]).toBeGreaterThanOrEqual(c))
    expect(Math.max(...before.coverage.left.counts)).toBeGreaterThan(0)
    const end = (await ended('Alder')) as CalibrationRun
    expect([end.phase, end.problem, end.taken + end.skipped]).toEqual(['done', null, 16])
    expect((await all.call('GET', `/calibrations/${end.calibration}/file`)).body.observations).toHaveLength(end.taken)
    expect((await all.call('POST', `/scanners/${shelf['Alder']}/use/${end.calibration}`, {})).status).toBe(200)
  }, 200_000)

  test('a mapping loses less than a second of what came, waits for the scanner, and goes on', async () => {
    expect((await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: job.setups[0].id })).status).toBe(202)
    await act('Alder', 'path')
    const before = (await until(
      () => run<MappingRun>('Alder'),
      (r) => (r?.frames ?? 0) >= 80,
    )) as MappingRun
    await killed()
    const after = (await run<MappingRun>('Alder')) as MappingRun
    // 17 frames a second; alone on a machine it is two or three
    expect(before.frames - after.frames).toBeLessThan(17)
    expect(after.markers.length).toBeGreaterThan(3)
    await until(
      () => run<MappingRun>('Alder'),
      (r) => r?.phase === 'recording' && r.frames > after.frames,
    )
    const ledTo = async (path: number | null) =>
      (await until(
        () => run<MappingRun>('Alder'),
        (r) => r !== null && (path === null || r.path === null ? r.path === path : r.path >= path),
      )) as MappingRun
    await act('Alder', 'path')
    await ledTo(0.3)
    // the scanner goes away in the middle of it: nobody has to lead it again
    all.killStandIn('alder')
    const away = (await until(
      () => run<MappingRun>('Alder'),
      (r) => r?.phase === 'waiting',
    )) as MappingRun
    expect(away.path).toBeGreaterThanOrEqual(0.3)
    const back = (await until(
      () => run<MappingRun>('Alder'),
      (r) => r?.phase === 'recording',
    )) as MappingRun
    expect(back.path).toBeGreaterThanOrEqual(away.path!)
    const led = await ledTo(null)
    // the clock of a stand-in begins anew with it; the tracker found its place again
    expect(led.tracking).toMatch(/tracked|regained/)
    expect(led.frames).toBeGreaterThan(back.frames)
    const end = (await act('Alder', 'end')).body as MappingRun
    const step = await all.finished(job.job.id, end.step ?? '')
    expect([step.state, step.problem]).toEqual(['done', null])
    // a board of 40; what is left of the session is its record
    expect((await all.state(job.job.id)).tray.find((i) => i.role === 'marker-map')?.count).toBe(40)
    const { rows } = await all.db.pool.query(
      'select state, (select count(*)::int from session_chunk where session_id = s.id) as chunks from session s where kind = $1 and scanner_id = $2',
      ['mapping', shelf['Alder']],
    )
    expect(rows).toEqual([{ state: 'done', chunks: 0 }])
  }, 200_000)

  test('a mapping that was held stays held, and one that was ending ends, in one step', async () => {
    await all.call('POST', `/jobs/${job.job.id}/mapping`, { scanner: shelf['Alder'], setup: job.setups[0].id })
    await act('Alder', 'path')
    await until(
      () => run<MappingRun>('Alder'),
      (r) => (r?.frames ?? 0) >= 60,
    )
    // what is held while the scanner is away stays so
    all.killStandIn('alder')
    await until(
      () => run<MappingRun>('Alder'),
      (r) => r?.phase === 'waiting',
    )
    await act('Alder', 'hold')
    await killed()
    const held = (await run<MappingRun>('Alder')) as MappingRun
    expect([held.phase, held.frames >= 60]).toEqual(['held', true])
    await warm('Alder')
    await act('Alder', 'on')
    await until(
      () => run<MappingRun>('Alder'),
      (r) => (r?.frames ?? 0) > held.frames,
    )
    const steps = (await all.state(job.job.id)).steps.length
    // killed while it ends: the answer never comes
    void act('Alder', 'end').catch(() => undefined)
    await until(
      async () => (await SessionRow.findOne({ where: { scannerId: shelf['Alder'], kind: 'mapping' }, order: [['createdAt', 'DESC']] }))?.progress,
      (p) => (p as { phase?: string }).phase === 'solving',
    )
    await killed()
    await until(
      async () => (await all.state(job.job.id)).steps,
      (s) => s.length === steps + 1 && s.at(-1)?.state === 'done',
    )
    // the step may be of the first attempt: the second finds it, and closes
    await until(
      () => SessionRow.count({ where: { state: 'open' } }),
      (n) => n === 0,
    )
    expect((await all.state(job.job.id)).steps).toHaveLength(steps + 1)
  }, 200_000)

  test('a verification keeps the positions it measured', async () => {
    const bar = artefacts.find((a) => a.name === 'Windlass 300')
    await warm('Alder')
    await all.call('POST', `/scanners/${shelf['Alder']}/verifications`, { bar: bar?.id })
    for (let k = 0; k < 3; k++) await act('Alder', 'take')
    const before = (await run<VerificationRun>('Alder')) as VerificationRun
    expect(before.readings).toHaveLength(3)
    await killed()
    expect(((await run<VerificationRun>('Alder')) as VerificationRun).readings).toEqual(before.readings)
    await warm('Alder')
    await act('Alder', 'take-all')
    const end = (await ended('Alder')) as VerificationRun
    expect([end.phase, end.readings.length]).toEqual(['done', 7])
    expect((await all.call('GET', `/verifications/${end.verification}`)).body.readings.slice(0, 3)).toEqual(before.readings)
  }, 120_000)
})

describe('one at a time', () => {
  test('two tabs that begin at once with one scanner: one session, and the other is told', async () => {
    await warm('Alder')
    const plate = artefacts.find((a) => a.name === 'Quoin 12')
    const asked = await Promise.all(
      Array.from({ length: 6 }, () => all.call('POST', `/scanners/${shelf['Alder']}/calibrations`, { plate: plate?.id, way: 'hand' })),
    )
    expect(asked.map((a) => a.status).sort()).toEqual([202, 409, 409, 409, 409, 409])
    expect((await act('Alder', 'cancel')).status).toBe(202)
    expect(await SessionRow.count({ where: { state: 'open' } })).toBe(0)
    // given up is a state, not memory: the scanner is free
    await killed()
    expect(await run('Alder')).toBeNull()
  }, 60_000)
  test('a second process waits for the lease, and takes over when the first is gone', async () => {
    const socket = `${all.socket}2`
    let ready = false
    const second = all.another('sessions', { OAK_SESSIONS: socket }).then((c) => {
      ready = true
      return c
    })
    await until(
      async () =>
        (await all.db.pool.query<{ n: number }>("select count(*)::int as n from pg_locks where locktype = 'advisory' and objid = 4181 and not granted")).rows[0]
          .n,
      (n) => n === 1,
    )
    expect(ready).toBe(false)
    const gone = new Promise((resolve) => all.sessions().once('exit', resolve))
    all.sessions().kill('SIGKILL')
    await gone
    const problem = await all.call('GET', '/scanners')
    expect([problem.status, problem.body.code]).toEqual([503, 'sessions-away'])
    const child = await second
    expect(ready).toBe(true)
    child.kill('SIGKILL')
    await all.startSessions()
    expect((await all.call('GET', '/scanners')).body.items).toHaveLength(4)
  }, 60_000)
})
