import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import type { CaptureRun, VerificationRun } from '@oak-gauge/contract'
import { atTheShelf, evidence, type Shelf } from './capturing.ts'
import { until } from './help.ts'

let shelf: Shelf
beforeAll(async () => void (shelf = await atTheShelf('Birch')), 120_000)
afterAll(() => shelf.all.stop())

const when = (good: (r: CaptureRun) => boolean) => until(() => shelf.run('Birch'), good, 60)

describe('what is chosen while a pass is recorded', () => {
  it('its button begins, holds and goes on, and never ends a recording', async () => {
    const { begin, act, run } = shelf
    await begin('Birch', { spacing: 3 })
    expect((await run('Birch')).phase).toBe('ready')
    await act('Birch', 'press')
    await when((r) => r.phase === 'recording')
    await act('Birch', 'path')
    await when((r) => r.placed >= 25)
    await act('Birch', 'press')
    await when((r) => r.phase === 'held')
    await act('Birch', 'press')
    await when((r) => r.phase === 'recording')
  })
  it('the light: by itself from far too little, by hand from then on; what a scanner does not have is refused', async () => {
    const { act, run } = shelf
    await act('Birch', 'light', { exposure: 0.06 })
    await when((r) => r.light.exposure === 0.06 && (r.light.seen?.dark ?? 0) > 0.5)
    await act('Birch', 'light', { auto: true })
    const well = await when((r) => (r.light.exposure ?? 0) > 0.5 && (r.light.seen?.dark ?? 1) < 0.1)
    expect([well.light.auto, well.problem]).toEqual([true, null])
    expect((await act('Birch', 'light', { exposure: 1 })).body.light).toMatchObject({ exposure: 1, auto: false, pattern: 'area', patterns: ['area'] })
    const refused = await act('Birch', 'light', { pattern: 'line' })
    expect([refused.status >= 400, refused.body.detail]).toEqual([true, 'There is no pattern line.'])
    expect((await act('Birch', 'light', { exposure: 0 })).status).toBe(400)
    // nor does it stop for that
    expect((await run('Birch')).phase).toBe('recording')
  })
  it('spacing and limits are set while it is held: every frame is placed once more; they outlive the process, and the pass is made so', async () => {
    const { act, run, all, killed, settled, finished } = shelf
    expect((await act('Birch', 'place-anew', { spacing: 2, near: null, far: null })).body.code).toBe('not-held')
    await act('Birch', 'hold')
    const held = await settled('Birch')
    expect((await act('Birch', 'place-anew', { spacing: 2, near: 500, far: 400 })).status).toBe(400)
    await act('Birch', 'place-anew', { spacing: 1.5, near: null, far: null })
    await when((r) => r.placed > 0)
    const finer = await settled('Birch')
    expect([finer.frames, finer.spacing]).toEqual([held.frames, 1.5])
    expect(finer.placed).toBeGreaterThan(0.8 * held.placed)
    // a surface has so many more cubes
    expect(finer.surface.version).toBeGreaterThan(held.surface.version)
    expect(finer.surface.cubes / held.surface.cubes).toBeGreaterThan(2.5)
    expect(finer.surface.cubes / held.surface.cubes).toBeLessThan(5.5)
    // what comes while they are placed once more is recorded, and placed after them
    await act('Birch', 'place-anew', { spacing: 3, near: null, far: null })
    await act('Birch', 'record')
    await when((r) => r.frames > held.frames + 20 && r.placed > finer.placed)
    await act('Birch', 'hold')
    const more = await settled('Birch')
    // two at once: the last one stays
    await Promise.all([
      act('Birch', 'place-anew', { spacing: 3, near: null, far: null }),
      act('Birch', 'place-anew', { spacing: 3, near: null, far: held.range.ideal }),
    ])
    await when((r) => r.placed > 0)
    const near = await settled('Birch')
    expect(near.far).toBe(held.range.ideal)
    expect(near.surface.cubes).toBeLessThan(0.9 * more.surface.cubes)
    await killed('Birch')
    await when((r) => r.placed > 0)
    const after = await settled('Birch')
    expect([after.phase, after.spacing, after.near, after.far, after.frames]).toEqual(['held', 3, null, near.far, more.frames])
    expect(Math.abs(after.surface.cubes / near.surface.cubes - 1)).toBeLessThan(0.02)

    const step = await finished(((await act('Birch', 'end')).body as CaptureRun).step)
    expect([step.state, step.problem]).toEqual(['done', null])
    expect([step.params['spacing'], step.params['near'], step.params['far']]).toEqual([3, undefined, near.far])
    // done again without the limit: all of it is there, for frames are kept whole
    const { far: _, ...params } = step.params
    const again = await all.call('POST', `/jobs/${shelf.job.job.id}/steps/${step.id}/rerun`, { params })
    expect(again.status).toBe(202)
    const whole = await finished(again.body[0].id)
    expect(evidence(whole, 'points-measured')).toBeGreaterThan(1.2 * Number(evidence(step, 'points-measured')))
    expect((await run('Birch')) === null || (await run('Birch')).phase === 'done').toBe(true)
  }, 300_000)
  it('takes the next position of a ball bar', async () => {
    const { act, all, run, shelf: ids } = shelf
    const bar = ((await all.call('GET', '/artefacts')).body.items as { id: string; name: string }[]).find((a) => a.name === 'Windlass 300')!
    expect((await all.call('POST', `/scanners/${ids['Birch']}/verifications`, { bar: bar.id })).status).toBe(202)
    await act('Birch', 'press')
    await until(
      () => run<VerificationRun>('Birch'),
      (r) => r.readings.length === 1,
      60,
    )
    await act('Birch', 'cancel')
  }, 90_000)
})
