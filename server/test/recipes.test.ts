import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { randomUUID } from 'node:crypto'
import type { Problem, Step } from '@oak-gauge/contract'
import { cubePly, startAll, tableAndBlock, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 90_000)
afterAll(() => all.stop())

const BASE = { oakGauge: 'recipe', version: 1, title: 'r' }
const PASSES = { passes1: { about: 'recorded passes of setup 1', many: true, setup: true } }
const THIN = { operation: 'thin', inputs: { passes: ['passes1'] }, params: { size: 3 }, outputs: {} }

async function withPasses(title: string, n = 2): Promise<string> {
  const { job } = await all.newJob(title)
  for (let i = 1; i <= n; i++) await all.bring(job.id, `pass ${i}.xyz`, tableAndBlock())
  return job.id
}
const run = (job: string, recipe: object, more: object = {}) => all.call('POST', `/jobs/${job}/recipe`, { recipe, ...more })

test('runs on what is named, in place of what is found', async () => {
  const job = await withPasses('Named')
  const [first] = (await all.state(job)).tray
  const asked = (await run(job, { ...BASE, inputs: PASSES, steps: [THIN] }, { inputs: { passes1: [first.slot] } })).body as Step[]
  await all.finished(job, asked[0].id)
  const counts = (await all.state(job)).tray.map((i) => i.count)
  expect(counts[0]).toBeLessThan(counts[1] / 3)
})

test('sent twice with its number it is run once', async () => {
  const job = await withPasses('Twice')
  const request = randomUUID()
  const recipe = { ...BASE, inputs: PASSES, steps: [THIN, { ...THIN, params: { size: 6 } }] }
  const [a, b] = await Promise.all([run(job, recipe, { request }), run(job, recipe, { request })])
  expect((a.body as Step[]).map((s) => s.id)).toEqual((b.body as Step[]).map((s) => s.id))
  for (const s of a.body as Step[]) expect((await all.finished(job, s.id)).state).toBe('done')
  expect((await all.state(job)).steps.filter((s) => s.operation === 'thin')).toHaveLength(2)
})

test('a step that fails takes the job back to where it stood, and those behind it are not run', async () => {
  const job = await withPasses('Fails')
  const before = await all.state(job)
  // two passes on the same places: nothing to merge finer than a thousandth of a millimetre within the limits
  const steps = [THIN, { operation: 'merge', inputs: { passes: ['passes1'] }, params: { cell: 0.0011 } }, { operation: 'facts', inputs: { mesh: ['mesh'] } }]
  const asked = (await run(job, { ...BASE, inputs: PASSES, steps })).body as Step[]
  const states = []
  for (const s of asked) states.push((await all.finished(job, s.id)).state)
  expect(states).toEqual(['done', 'failed', 'cancelled'])
  const now = await all.state(job)
  expect([now.head, now.tray]).toEqual([before.head, before.tray])
  expect(now.steps.find((s) => s.operation === 'merge')?.problem?.remedy).not.toBe('')
})

test.each<[string, object, number, Partial<Record<keyof Problem, RegExp>>]>([
  ['needs what is not there', { inputs: { nominal: { about: 'plate.step' } }, steps: [THIN] }, 422, { code: /missing-input/, detail: /nominal.*plate\.step/ }],
  [
    'passes of a second setup that has none',
    { inputs: { ...PASSES, passes2: PASSES.passes1 }, steps: [THIN] },
    422,
    { code: /missing-input/, where: /passes2/ },
  ],
  ['a name that no step made', { inputs: PASSES, steps: [{ operation: 'facts', inputs: { mesh: ['mesh'] } }] }, 422, { code: /bad-recipe/, where: /step 1/ }],
  ['an input that the operation has not', { inputs: PASSES, steps: [{ ...THIN, inputs: { points: ['passes1'] } }] }, 422, { detail: /has no input/ }],
  ['a setting that is no setting', { inputs: PASSES, steps: [THIN, { ...THIN, params: { size: -1 } }] }, 422, { code: /bad-setting/, where: /step 2/ }],
  ['an operation that is none', { inputs: PASSES, steps: [{ ...THIN, operation: 'polish' }] }, 422, { detail: /polish/ }],
  ['a step that reads a file', { inputs: PASSES, steps: [{ operation: 'import', inputs: {} }] }, 422, { code: /wrong-input/, where: /step 1/ }],
  ['no steps', { inputs: PASSES, steps: [] }, 400, { where: /recipe\.steps/ }],
  ['no recipe', { oakGauge: 'ledger' }, 400, { where: /recipe/ }],
])('refused, and nothing queued: %s', async (_what, recipe, status, words) => {
  const job = await withPasses('Refused', 1)
  const r = await run(job, { ...BASE, ...recipe })
  expect(r.status).toBe(status)
  for (const [k, v] of Object.entries(words)) expect((r.body as Record<string, string>)[k]).toMatch(v)
  expect((await all.state(job)).steps).toHaveLength(1)
})

test('behind a step that the job has left: told, and not run', async () => {
  const job = await withPasses('Moved')
  const { head } = await all.state(job)
  await all.step(job, { operation: 'thin', inputs: { passes: [(await all.state(job)).tray[0].slot] }, params: { size: 2 } })
  expect(await run(job, { ...BASE, inputs: PASSES, steps: [THIN] }, { after: head })).toMatchObject({ status: 409, body: { code: 'moved-on' } })
})

test('the mesh and the nominal are found by their kind', async () => {
  const { job } = await all.newJob('Cube')
  await all.bring(job.id, 'measured.ply', cubePly(20), '&role=mesh&unit=mm')
  await all.bring(job.id, 'drawn.ply', cubePly(20), '&role=nominal&unit=mm')
  const inputs = { mesh: { about: 'measured' }, nominal: { about: 'drawn' } }
  const steps = [{ operation: 'deviation', inputs: { measured: ['mesh'], nominal: ['nominal'] } }]
  const [s] = (await run(job.id, { ...BASE, inputs, steps })).body as Step[]
  const done = await all.finished(job.id, s.id)
  expect([done.state, done.problem]).toEqual(['done', null])
  expect((await all.state(job.id)).tray.map((i) => i.role)).toEqual(['mesh', 'nominal', 'deviation'])
})
