import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { quantity } from '@oak-gauge/contract'
import { cubePly, startAll, tableAndBlock, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

const trim = (slot: string, raise = 0.5) => ({
  operation: 'trim-plane',
  inputs: { passes: [slot] },
  params: {
    through: [
      [-40, -40, 0],
      [40, -40, 0],
      [0, 40, 0],
    ],
    raise,
  },
})

/** A job with one pass on a table. */
async function withPass() {
  const job = (await all.newJob()).job.id
  await all.bring(job, 'pass.xyz', tableAndBlock())
  const [pass] = (await all.state(job)).tray
  return { job, slot: pass.slot, count: pass.count }
}

describe('the ledger', () => {
  test('a step changes the tray; back and forward move through it; nothing is lost', async () => {
    const { job, slot, count } = await withPass()
    expect(count).toBe(81 * 81)
    const step = await all.step(job, trim(slot))
    expect(step.state).toBe('done')
    // the block's top alone is left: 31 x 31 places
    expect((await all.state(job)).tray[0].count).toBe(31 * 31)
    expect(quantity(step, 'points-left')?.value).toBe(31 * 31)
    const back = (await all.call('POST', `/jobs/${job}/head`, { step: step.parent })).body
    expect(back.tray[0].count).toBe(81 * 81)
    expect(back.forward).toBe(step.id)
    const forward = (await all.call('POST', `/jobs/${job}/head`, { step: step.id })).body
    expect(forward.tray[0].count).toBe(31 * 31)
    const start = (await all.call('POST', `/jobs/${job}/head`, { step: null })).body
    expect(start.tray).toEqual([])
  })
  test('the same step on the same data is not computed twice', async () => {
    const { job, slot } = await withPass()
    const first = await all.step(job, trim(slot, 0.7))
    await all.call('POST', `/jobs/${job}/head`, { step: first.parent })
    const again = await all.step(job, trim(slot, 0.7))
    expect(again.reused).toBe(true)
    expect(again.evidence).toEqual(first.evidence)
  })
  test('a setting changed upstream runs again all that depends on it, and the old branch stays', async () => {
    const { job, slot } = await withPass()
    const first = await all.step(job, trim(slot))
    await all.step(job, { operation: 'thin', inputs: { passes: [slot] }, params: { size: 4 } })
    const thinned = (await all.state(job)).tray[0].count
    const r = await all.call('POST', `/jobs/${job}/steps/${first.id}/rerun`, { params: { ...first.params, raise: -0.5 } })
    expect(r.status).toBe(202)
    expect(r.body).toHaveLength(2)
    for (const s of r.body) expect((await all.finished(job, s.id)).state).toBe('done')
    const now = await all.state(job)
    // nothing was trimmed this time, and thinning was done again on more points
    expect(now.tray[0].count).toBeGreaterThan(3 * thinned)
    expect(now.steps.filter((s) => s.operation === 'trim-plane')).toHaveLength(2)
  })
  test('a repetition that fails leaves the job where it was', async () => {
    const { job, slot } = await withPass()
    const first = await all.step(job, trim(slot))
    const before = await all.state(job)
    const r = await all.call('POST', `/jobs/${job}/steps/${first.id}/rerun`, { params: { ...first.params, raise: 500 } })
    const failed = await all.finished(job, r.body[0].id)
    expect(failed.problem?.code).toBe('nothing-left')
    expect((await all.state(job)).head).toBe(before.head)
  })
  test('a preview says what would go and changes nothing', async () => {
    const { job, slot } = await withPass()
    const before = await all.state(job)
    const p = await all.step(job, { ...trim(slot), preview: true })
    expect(quantity(p, 'points-left')?.value).toBe(31 * 31)
    const after = await all.state(job)
    expect(after.head).toBe(before.head)
    expect(after.tray[0].count).toBe(81 * 81)
    const items = (await all.call('GET', `/jobs/${job}/steps/${p.id}/items`)).body
    expect(items).toHaveLength(1)
    expect((await all.call('DELETE', `/jobs/${job}/steps/${p.id}`)).status).toBe(204)
    expect((await all.state(job)).steps.some((s) => s.id === p.id)).toBe(false)
  })
  test('setting aside takes off the tray, stepping back puts it there again', async () => {
    const { job, slot } = await withPass()
    const step = (await all.call('POST', `/jobs/${job}/steps`, { operation: 'set-aside', inputs: { items: [slot] } })).body
    expect((await all.state(job)).tray).toEqual([])
    await all.call('POST', `/jobs/${job}/head`, { step: step.parent })
    expect((await all.state(job)).tray).toHaveLength(1)
  })
  test('what was set aside is set aside again when a step before it is run with other settings', async () => {
    const { job, slot } = await withPass()
    await all.bring(job, 'cube.ply', cubePly(20))
    const cube = (await all.state(job)).tray.find((i) => i.slot !== slot)
    const thinned = await all.step(job, { operation: 'thin', inputs: { passes: [slot] }, params: { size: 3 } })
    await all.call('POST', `/jobs/${job}/steps`, { operation: 'set-aside', inputs: { items: [cube?.slot] } })
    const again = await all.call('POST', `/jobs/${job}/steps/${thinned.id}/rerun`, { params: { size: 6 } })
    for (const s of again.body as { id: string }[]) expect(await all.finished(job, s.id)).toMatchObject({ state: 'done', problem: null })
    const { tray, steps } = await all.state(job)
    expect(tray.map((i) => i.slot)).toEqual([slot])
    expect(steps.at(-1)).toMatchObject({ operation: 'set-aside', evidence: { quantities: [{ value: 'cube' }] } })
  })
  test('a recipe of the path names inputs, steps and what to deliver', async () => {
    const { job, slot } = await withPass()
    await all.step(job, trim(slot))
    const recipe = (await all.call('GET', `/jobs/${job}/recipe`)).body
    expect(Object.keys(recipe.inputs)).toEqual(['passes1'])
    expect(recipe.steps.map((s: any) => s.operation)).toEqual(['trim-plane'])
    expect(recipe.steps[0].inputs).toEqual({ passes: ['passes1'] })
  })
})

describe('things that go wrong', () => {
  test('a worker that is killed in the middle loses nothing: the step is run again', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(20))
    const [mesh] = (await all.state(job)).tray
    const r = await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh.slot] }, params: { count: 6_000_000 } })
    for (let i = 0; i < 200 && (await all.state(job)).steps.at(-1)?.state !== 'running'; i++) await new Promise((resolve) => setTimeout(resolve, 20))
    all.worker().kill('SIGKILL')
    await all.startWorker()
    const step = await all.finished(job, r.body.id)
    expect(step.state).toBe('done')
    expect((await all.state(job)).tray.map((i) => i.count).sort()).toEqual([12, 6_000_000])
  }, 120_000)
  test('a running step can be cancelled; the job is as before and goes on', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(21))
    const [mesh] = (await all.state(job)).tray
    const r = await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh.slot] }, params: { count: 40_000_000 } })
    for (let i = 0; i < 200 && (await all.state(job)).steps.at(-1)?.state !== 'running'; i++) await new Promise((resolve) => setTimeout(resolve, 20))
    const began = Date.now()
    await all.call('POST', `/jobs/${job}/steps/${r.body.id}/cancel`)
    expect((await all.finished(job, r.body.id)).state).toBe('cancelled')
    expect(Date.now() - began).toBeLessThan(10_000)
    expect((await all.state(job)).tray).toHaveLength(1)
    expect((await all.step(job, { operation: 'facts', inputs: { mesh: [mesh.slot] } })).state).toBe('done')
  })
  test('what is not on the tray, unknown operations and wrong settings are refused with a remedy', async () => {
    const { job, slot } = await withPass()
    const cases: [unknown, number, string][] = [
      [{ operation: 'trim-plane', inputs: { passes: ['00000000-0000-4000-8000-000000000000'] } }, 409, 'not-on-tray'],
      [{ operation: 'polish', inputs: {} }, 422, 'unknown-operation'],
      [{ operation: 'thin', inputs: { passes: [slot] }, params: { size: -1 } }, 422, 'bad-setting'],
      [{ operation: 'import' }, 422, 'wrong-input'],
      [{ inputs: 7 }, 400, 'bad-request'],
    ]
    for (const [request, status, code] of cases) {
      const r = await all.call('POST', `/jobs/${job}/steps`, request)
      expect([r.status, r.body.code]).toEqual([status, code])
      expect(r.body.detail.length).toBeGreaterThan(5)
    }
    expect((await all.state(job)).steps).toHaveLength(1)
  })
})
