import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { randomUUID } from 'node:crypto'
import type { JobState, Step, StepRequest } from '@oak-gauge/contract'
import { endOf } from '@oak-gauge/contract'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { StepRow } from '../src/db/models.ts'
import { cubePly, startAll, tableAndBlock, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 120_000)
afterAll(() => all.stop())

const newPass = async () => {
  const job = (await all.newJob()).job.id
  await all.bring(job, 'pass.xyz', tableAndBlock())
  return { job, slot: (await all.state(job)).tray[0].slot }
}
const thin = (slot: string, size: number, more: Partial<StepRequest> = {}): StepRequest => ({
  operation: 'thin',
  inputs: { passes: [slot] },
  params: { size },
  ...more,
})
const quiet = async (job: string): Promise<JobState> => {
  for (;;) {
    const s = await all.state(job)
    if (!s.steps.some((x) => x.state === 'queued' || x.state === 'running')) return s
    await new Promise((resolve) => setTimeout(resolve, 20))
  }
}
/** Steps from the first to the head; every chained step has a chained parent. */
function chainOf(s: JobState): Step[] {
  const byId = new Map(s.steps.map((x) => [x.id, x]))
  const path: Step[] = []
  for (let id = s.head; id; id = byId.get(id)!.parent) {
    if (path.length > s.steps.length) throw new Error('a circle')
    path.push(byId.get(id)!)
  }
  return path.reverse()
}

describe('two clients who saw the job stand at the same place', () => {
  test('of every two changes that contradict one is made and one is told what happened', async () => {
    const { job, slot } = await newPass()
    const random = seeded(5)
    let stepped = 0
    for (let k = 0; k < 40; k++) {
      const before = await quiet(job)
      const after = endOf(before.head, before.steps)
      const back = before.steps.find((x) => x.id === before.head)!.parent ?? before.head
      const change = (who: number) => {
        const what = k < 4 ? 0 : Math.floor(random.next() * 4)
        const last = before.steps.find((x) => x.id === before.head)!
        if (what === 0) return all.call('POST', `/jobs/${job}/head`, { step: back, after })
        if (what === 1 && last.operation === 'thin')
          return all.call('POST', `/jobs/${job}/steps/${last.id}/rerun`, { params: { size: 1.01 + 0.01 * k + 0.001 * who }, after })
        if (what === 2) return all.call('POST', `/jobs/${job}/steps`, { operation: 'set-aside', inputs: { items: [slot] }, after, request: randomUUID() })
        return all.call('POST', `/jobs/${job}/steps`, thin(slot, 1 + 0.01 * k + 0.001 * who, { after }))
      }
      const answers = await Promise.all([change(1), change(2)])
      for (const a of answers) expect([200, 202, 409]).toContain(a.status)
      for (const a of answers.filter((x) => x.status === 409)) {
        expect(['moved-on', 'busy', 'not-on-tray']).toContain(a.body.code)
        expect(a.body.remedy).not.toBe('')
      }
      const now = await quiet(job)
      const chain = chainOf(now)
      // as if one had come after the other: at most one step more than before, on what was seen
      const more = chain.filter((x) => !before.steps.some((b) => b.id === x.id))
      expect(more.length).toBeLessThanOrEqual(1)
      stepped += more.length
      for (const x of now.steps) if (x.state === 'done' && !before.steps.some((b) => b.id === x.id)) expect(x.problem).toBeNull()
      if (!now.tray.length) await all.call('POST', `/jobs/${job}/head`, { step: chain[0].id })
    }
    expect(stepped).toBeGreaterThan(10)
  }, 240_000)
  test('a double click is one step, and so is a request that is sent again', async () => {
    const { job, slot } = await newPass()
    for (let k = 0; k < 20; k++) {
      const s = await quiet(job)
      const body = thin(slot, 2 + 0.1 * k, { after: s.head })
      const [a, b] = await Promise.all([all.call('POST', `/jobs/${job}/steps`, body), all.call('POST', `/jobs/${job}/steps`, body)])
      expect([a.status, b.status, b.body.id]).toEqual([202, 202, a.body.id])
    }
    // stepped back from it, and asked for again on purpose: it is done again
    const last = await quiet(job)
    const [top, below] = [last.head, chainOf(last).at(-2)!.id]
    await all.call('POST', `/jobs/${job}/head`, { step: below, after: top })
    const anew = await all.call('POST', `/jobs/${job}/steps`, thin(slot, 2 + 0.1 * 19, { after: below }))
    expect(anew.body.id).not.toBe(top)
    expect((await quiet(job)).head).toBe(anew.body.id)
    const request = randomUUID()
    const twice = [1, 2].map(() => all.call('POST', `/jobs/${job}/steps`, thin(slot, 9, { request })))
    const [a, b] = await Promise.all(twice)
    expect(b.body.id).toBe(a.body.id)
    const bring = () =>
      fetch(`${all.url}/api/v1/jobs/${job}/files?name=more.xyz&request=${randomly}`, { method: 'PUT', body: tableAndBlock() }).then(
        (r) => r.json() as Promise<Step>,
      )
    const randomly = randomUUID()
    const [c, d] = [await bring(), await bring()]
    expect(d.id).toBe(c.id)
    expect(chainOf(await quiet(job))).toHaveLength(1 + 20 + 1 + 1)
  }, 120_000)
  test('says which step came in between; files that came in do not count', async () => {
    const { job, slot } = await newPass()
    const seen = (await quiet(job)).head
    await all.bring(job, 'second.xyz', `${tableAndBlock()}\n1 2 3\n`)
    expect((await all.call('POST', `/jobs/${job}/steps`, thin(slot, 2, { after: seen }))).status).toBe(202)
    await quiet(job)
    const late = await all.call('POST', `/jobs/${job}/steps`, thin(slot, 3, { after: seen }))
    expect([late.status, late.body.code]).toEqual([409, 'moved-on'])
    expect(late.body.detail).toContain('Thin')
    const back = await all.call('POST', `/jobs/${job}/head`, { step: null, after: seen })
    expect([back.status, back.body.code]).toEqual([409, 'moved-on'])
    const never = await all.bring(job, 'bad.xyz', 'no numbers')
    expect(never.state).toBe('failed')
    const behind = await all.call('POST', `/jobs/${job}/steps`, thin(slot, 3, { after: never.id }))
    expect([behind.status, behind.body.detail]).toEqual([409, expect.stringMatching(/which this was to follow, has failed/)])
    // of nobody who saw another place anything is kept
    expect(chainOf(await quiet(job))).toHaveLength(3)
  })
})

describe('the ledger itself', () => {
  test('keeps every step in its place, whoever writes', async () => {
    const { job, slot } = await newPass()
    const a = await all.step(job, thin(slot, 2))
    const b = await all.step(job, thin(slot, 3))
    const write = (sql: string, ...values: unknown[]) => all.db.pool.query(sql, values)
    await expect(write('update step set parent = $2 where id = $1', a.id, b.id)).rejects.toThrow('keeps its place')
    await expect(write('update step set chained = false where id = $1', a.id)).rejects.toThrow('keeps its place')
    const loose = await StepRow.create({ jobId: job, operation: 'thin', version: 1, params: {}, inputs: {}, state: 'cancelled' })
    await expect(write('update step set chained = true, parent = id where id = $1', loose.id)).rejects.toThrow('stands behind another one')
    const other = (await newPass()).job
    const stranger = (await all.state(other)).head
    await expect(write('update step set chained = true, parent = $2 where id = $1', loose.id, stranger)).rejects.toThrow('stands behind another one')
  })
  test('what a worker computed that had lost its step is not kept, and the step is done once', async () => {
    const job = (await all.newJob()).job.id
    await all.bring(job, 'cube.ply', cubePly(27))
    const [mesh] = (await all.state(job)).tray
    const step = (await all.call('POST', `/jobs/${job}/steps`, { operation: 'sample', inputs: { mesh: [mesh.slot] }, params: { count: 3_000_000 } }))
      .body as Step
    const taken = async () => (await StepRow.update({ attempt: randomUUID() }, { where: { id: step.id, state: 'running' } }))[0]
    while (!(await taken())) await new Promise((resolve) => setTimeout(resolve, 10))
    expect((await all.finished(job, step.id)).state).toBe('done')
    const row = await StepRow.findByPk(step.id)
    // put back once, since nobody held it any more
    expect(row?.attempts).toBe(1)
    expect((await all.state(job)).tray).toHaveLength(2)
  }, 60_000)
})
