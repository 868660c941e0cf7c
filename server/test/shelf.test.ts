import { afterAll, beforeAll, describe, expect, it } from '@jest/globals'
import type { ScannerDetail, ScannerSummary } from '@oak-gauge/contract'
import { ScannerRow } from '../src/db/scannermodels.ts'
import { rehearseHistory, stockShelf } from '../src/scanners/demo.ts'
import { startAll, type All } from './help.ts'

let all: All
beforeAll(async () => {
  all = await startAll()
}, 60_000)
afterAll(() => all.stop())

/** What a new user finds on the shelf: computed from the stand-ins' optics, once. */
describe('the demo’s shelf', () => {
  const told: string[] = []
  const list = async (): Promise<ScannerSummary[]> => (await all.call('GET', '/scanners')).body.items
  const detail = async (name: string): Promise<ScannerDetail> => {
    const s = (await list()).find((x) => x.name === name)!
    return (await all.call('GET', `/scanners/${s.id}`)).body
  }

  it('is stocked once: four stand-ins, four plates, two bars, all switched off', async () => {
    await stockShelf()
    await stockShelf()
    const shelf = await list()
    expect(shelf.map((s) => [s.name, s.on, s.link, s.health.state])).toEqual(['Alder', 'Birch', 'Hazel', 'Rowan'].map((n) => [n, false, 'off', 'no-go']))
    const artefacts = (await all.call('GET', '/artefacts')).body.items as { kind: string }[]
    expect([artefacts.filter((a) => a.kind === 'plate').length, artefacts.filter((a) => a.kind === 'ball-bar').length]).toEqual([4, 2])
  })

  it('gets the calibrations of the last weeks, each fit for use, the later ones knowing the earlier', async () => {
    await rehearseHistory((s) => Promise.resolve(void told.push(s)))
    const alder = await detail('Alder')
    expect(alder.calibrations).toHaveLength(5)
    expect(alder.calibrations.map((c) => c.verdict)).toEqual(Array(5).fill('go'))
    expect(alder.calibrations.every((c) => c.rms > 0.004 && c.rms < 0.015 && c.poses === 16)).toBe(true)
    // at least six days between one and the next
    const days = alder.calibrations.map((c) => new Date(c.at).getTime() / 86_400_000)
    days.slice(1).forEach((d, i) => expect(d - days[i]).toBeGreaterThan(6))
    const last = (await all.call('GET', `/calibrations/${alder.calibration!.id}`)).body
    expect(last.previous.id).toBe(alder.calibrations[3].id)
    // the optics walk slowly: from one week to the next less than the limits, but more than nothing
    const walked = Math.abs(last.result.angle - last.previous.result.angle)
    expect([walked > 1e-5, walked < 0.02]).toEqual([true, true])
    expect(new Set(told).size).toBe(4)
  }, 240_000)

  it('Alder and Hazel are good and verified, Birch and Rowan are due', async () => {
    const state = Object.fromEntries((await list()).map((s) => [s.name, [s.health.state, s.verification?.verdict ?? null]]))
    expect(state).toEqual({ Alder: ['go', 'pass'], Birch: ['due', null], Hazel: ['go', 'pass'], Rowan: ['due', null] })
    const hazel = await detail('Hazel')
    expect([hazel.health.reason, hazel.verification!.positions]).toEqual(['Calibrated and verified.', 7])
    expect(hazel.notes).toHaveLength(3)
  })

  it('a second start computes nothing again', async () => {
    told.length = 0
    const began = performance.now()
    await rehearseHistory((s) => Promise.resolve(void told.push(s)))
    expect([told, (await detail('Alder')).calibrations.length]).toEqual([[], 5])
    expect(performance.now() - began).toBeLessThan(10_000)
  })

  it('a stand-in that is switched on is given the calibration in use', async () => {
    const row = (await ScannerRow.findOne({ where: { name: 'Rowan' } }))!
    await row.update({ standIn: { ...row.standIn!, calibration: null } })
    await all.call('PATCH', `/scanners/${row.id}`, { on: true })
    for (let k = 0; k < 100 && (await detail('Rowan')).link !== 'connected'; k++) await new Promise((r) => setTimeout(r, 100))
    for (let k = 0; k < 50 && !(await row.reload()).standIn?.calibration; k++) await new Promise((r) => setTimeout(r, 100))
    expect(row.standIn?.calibration?.id).toBe(row.calibrationId)
    await all.call('PATCH', `/scanners/${row.id}`, { on: false })
    expect((await detail('Rowan')).link).toBe('off')
  }, 60_000)
})
