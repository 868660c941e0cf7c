import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import { writeAny } from '@oak-gauge/core/formats/index.ts'
import { boxMesh } from '../../core/test/help.ts'
import { at } from '../../core/test/tray.ts'
import { atTheShelf } from './capturing.ts'
import { until } from './help.ts'

let shelf: Awaited<ReturnType<typeof atTheShelf>>
beforeAll(async () => {
  shelf = await atTheShelf('Birch')
  const panel = Buffer.concat([...writeAny('stl', at(boxMesh(420, 320, 8), -210, -160, 0), 'panel')])
  expect((await shelf.all.bring(shelf.job.job.id, 'panel.stl', panel, '&role=nominal&unit=mm')).state).toBe('done')
}, 120_000)
afterAll(() => shelf.all.stop())

describe('a flat panel that is printed', () => {
  it('slides by its shape, which adds nothing; by its print as well it becomes a pass, whose axes are its own', async () => {
    const { all, job, begin, act, run, finished, passes } = shelf
    const led = async (by: string, upTo: number) => {
      const begun = await begin('Birch', { by, spacing: 2, printed: true })
      expect([begun.status, begun.body.by]).toEqual([202, by])
      await act('Birch', 'record')
      await act('Birch', 'path')
      return until(
        () => run('Birch'),
        (r) => r.frames >= upTo || r.path === null,
        120,
      )
    }
    const slid = await led('shape', 30)
    expect([slid.placed, slid.tracking, slid.why]).toEqual([1, 'weak', 'free'])
    await act('Birch', 'cancel')

    const held = await led('print', 90)
    expect([held.placed > 20, held.problem]).toEqual([true, null])
    await act('Birch', 'hold')
    const step = await finished((await act('Birch', 'end')).body.step)
    expect([step.state, step.problem, step.params['by']]).toEqual(['done', null, 'print'])
    const figure = (id: string) => Number(step.evidence!.quantities.find((x) => x.id === id)!.value)
    expect(figure('frames') - figure('frames-not-placed')).toBeGreaterThan(30)
    expect(figure('frame-sigma-median')).toBeLessThan(0.3)
    expect(step.evidence!.warnings.join()).not.toMatch(/held by nothing/)
    expect(step.evidence!.poses).toMatchObject([{ covariance: null }])
    const [pass] = await passes()
    // flat, and a panel's width of it
    const [x0, y0, z0, x1, y1, z1] = pass.box!
    expect(Math.hypot(x1 - x0, y1 - y0, z1 - z0)).toBeGreaterThan(250)
    expect(pass.setup).toBe(job.setups[0].id)
    // Birch tells colours
    expect(pass.coloured).toBe(true)
    expect((await all.state(job.job.id)).tray.filter((i) => i.role === 'pass').length).toBe(1)
  }, 300_000)
})
