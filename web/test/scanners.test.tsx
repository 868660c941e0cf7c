/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeAll, describe, expect, jest, test } from '@jest/globals'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import { App } from 'antd'
import type { ReactNode } from 'react'
import { Provider } from 'react-redux'
import { MemoryRouter, Route, Routes } from 'react-router'
import type { CalibrationRun, ScannerDetail } from '@oak-gauge/contract'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { api } from '../src/api.ts'
import { fieldScale } from '../src/scanners/calibrate/VectorField.tsx'
import { Guidance } from '../src/scanners/calibrate/Guidance.tsx'
import { pairsOf } from '../src/scanners/calibrate/imagefiles.ts'
import { inOneLine, timeUsed } from '../src/scanners/health.tsx'
import { ReadyCard } from '../src/stages/ready/ReadyCard.tsx'
import { store } from '../src/store.ts'
import { button, fakeServer, jobOf, show, uuid } from './help.tsx'

jest.unstable_mockModule('react-chartjs-2', () => ({ Line: (p: { 'aria-label': string }) => <div role="img" aria-label={p['aria-label']} />, Bar: () => null }))
let ScannerPage: () => ReactNode
beforeAll(async () => {
  ScannerPage = (await import('../src/scanners/ScannerPage.tsx')).ScannerPage
})
afterEach(cleanup)

const rows = [
  { name: 'form', value: 0.1, limit: 0.35, uncertainty: 0.001, verdict: 'pass', position: 1 },
  { name: 'size', value: 0.01, limit: 0.06, uncertainty: 0.01, verdict: 'pass', position: 0 },
  { name: 'distance', value: -0.012, limit: 0.06, uncertainty: 0.01, verdict: 'pass', position: 4 },
] as const
const calibration = {
  id: uuid(70),
  at: '2026-05-04T08:00:00Z',
  plate: 'Quoin 12',
  celsius: 20.6,
  cold: false,
  verdict: 'go',
  rms: 0.0084,
  mean: 0.007,
  largest: 0.03,
  baseline: 140.1,
  poses: 16,
  way: 'hand',
} as const
const verification = {
  id: uuid(80),
  at: '2026-05-04T09:00:00Z',
  calibration: uuid(70),
  bar: 'Windlass 300',
  cold: false,
  verdict: 'pass',
  rows: [...rows],
  positions: 7,
} as const
const alder = (more: Partial<ScannerDetail> = {}): ScannerDetail => ({
  id: uuid(60),
  name: 'Alder',
  model: 'hand-held laser lines',
  serial: 'AL-1',
  kind: 'laser-lines',
  turntable: false,
  own: false,
  standIn: { clock: 30 },
  on: true,
  address: null,
  link: 'connected',
  problem: null,
  state: { celsius: 31.4, room: 20.6, warm: true, exposure: 1, pattern: 'cross' },
  warmIn: 0,
  health: { state: 'go', reason: 'Calibrated and verified.', goodUntil: new Date('2026-05-11T08:00:00Z').getTime() },
  calibration,
  verification: { ...verification, rows: [...rows] },
  run: null,
  spec: DEVICES['alder'].spec,
  calibrations: [calibration],
  verifications: [{ ...verification, rows: [...rows] }],
  notes: [{ at: '2026-05-04T08:10:00Z', text: 'The calibration was put into use.' }],
  warming: { minutes: [0, 1, 2], celsius: [21, 25, 28], final: 31.5, tau: 4 },
  ...more,
})
const plates = [
  {
    id: uuid(90),
    kind: 'plate',
    name: 'Quoin 12',
    size: 12,
    certificate: { number: '1', laboratory: '', date: '2026-03-01', ends: '2028-03-01', valid: true },
  },
  {
    id: uuid(91),
    kind: 'ball-bar',
    name: 'Windlass 300',
    size: 300,
    certificate: { number: '2', laboratory: '', date: '2026-03-01', ends: '2028-03-01', valid: true },
  },
]

function open(part: string, scanner: ScannerDetail, run: unknown = null) {
  store.dispatch(api.util.resetApiState())
  const sent = fakeServer(({ path, method }) => {
    if (method !== 'GET') return { body: run ?? {} }
    if (path === 'scanners') return { body: [scanner] }
    if (path.endsWith('/run')) return { body: run }
    if (path.startsWith('scanners/')) return { body: scanner }
    if (path === 'artefacts') return { body: plates }
    if (path.startsWith('verifications/')) return { body: { ...verification, scanner: scanner.id, readings: [] } }
    return undefined
  })
  render(
    <Provider store={store}>
      <App>
        <MemoryRouter initialEntries={[`/scanners/${scanner.id}/${part}`]}>
          <Routes>
            <Route path="/scanners/:id/:part?" element={<ScannerPage />} />
          </Routes>
        </MemoryRouter>
      </App>
    </Provider>,
  )
  return sent
}

describe('one line of the shelf says first what is in the way', () => {
  test.each<[Partial<ScannerDetail>, RegExp, boolean]>([
    [{}, /^good until/, false],
    [{ health: { state: 'due', reason: 'It had a knock since it was calibrated.', goodUntil: null } }, /^due: it had a knock/, true],
    [{ health: { state: 'no-go', reason: 'Never calibrated here.', goodUntil: null } }, /^not fit for use: never/, true],
    [{ state: { celsius: 22, room: 20, warm: false, exposure: 1, pattern: 'cross' }, warmIn: 6.2 }, /^warming up, about 6 min/, false],
    [{ link: 'lost', problem: { code: 'gone', detail: 'The connection to the scanner broke off.', where: '', remedy: '' } }, /broke off/, true],
    [{ run: { kind: 'calibration', phase: 'waiting' } }, /waits for the scanner/, true],
  ])('%#', (more, text, urgent) => {
    const line = inOneLine(alder(more))
    expect([line.text, line.urgent]).toEqual([expect.stringMatching(text), urgent])
  })
  test('the bar is the share of its time', () => {
    expect(timeUsed(alder(), new Date('2026-05-07T20:00:00Z').getTime())).toBeCloseTo(0.5, 6)
    expect(timeUsed(alder({ calibration: null }), 0)).toBe(1)
  })
})

describe('the page of a scanner', () => {
  test('State: may it be trusted, and dropping a stand-in', async () => {
    const sent = open('State', alder())
    expect((await screen.findByText('Go')).closest('[data-health]')?.getAttribute('data-health')).toBe('go')
    expect(screen.getByText('-0.012 ± 0.010 mm')).toBeTruthy()
    fireEvent.click(screen.getByText('Stand-in'))
    fireEvent.click(button('Drop it'))
    await waitFor(() => expect(sent.some((s) => s.method === 'POST' && s.path === `scanners/${uuid(60)}/drop`)).toBe(true))
  })
  test('State: switched off, it is switched on by the main button', async () => {
    const sent = open('State', alder({ on: false, link: 'off', state: null, warming: { minutes: [], celsius: [], final: null, tau: null } }))
    fireEvent.click(await screen.findByRole('button', { name: 'Switch it on' }))
    await waitFor(() => expect(sent.find((s) => s.method === 'PATCH')?.body).toEqual({ on: true }))
  })
  test('Calibrate: a cold scanner wants the explicit anyway', async () => {
    const sent = open('Calibrate', alder({ state: { celsius: 23, room: 20.6, warm: false, exposure: 1, pattern: 'cross' }, warmIn: 5 }))
    const begin = await screen.findByRole('button', { name: 'Begin' })
    await screen.findByText(/certificate of 2026-03-01/)
    expect((begin as HTMLButtonElement).disabled).toBe(true)
    fireEvent.click(screen.getByRole('checkbox'))
    fireEvent.click(button('Begin'))
    await waitFor(() => expect(sent.find((s) => s.method === 'POST')?.body).toEqual({ plate: uuid(90), way: 'hand', cold: true }))
  })
  test('Calibrate: a run that failed says why, and can be gone on with', async () => {
    const run: CalibrationRun = {
      kind: 'calibration',
      way: 'script',
      plate: 'Quoin 12',
      phase: 'failed',
      target: 3,
      targets: 16,
      name: 'near',
      taken: 3,
      skipped: 0,
      trouble: null,
      advice: null,
      match: null,
      still: false,
      coverage: { left: { columns: 2, rows: 1, counts: [5, 0] }, right: { columns: 2, rows: 1, counts: [1, 0] } },
      cold: false,
      problem: { code: 'poses-flat', detail: 'All poses have the same tilt: the focal length is not determined.', where: '', remedy: 'Tilt the plate.' },
      calibration: null,
    }
    const sent = open('Calibrate', alder(), run)
    expect(await screen.findByText(/same tilt/)).toBeTruthy()
    expect(screen.getByRole('img', { name: 'left image: 50 % covered' })).toBeTruthy()
    fireEvent.click(button('Take more poses'))
    await waitFor(() => expect(sent.some((s) => s.path === `scanners/${uuid(60)}/run/on`)).toBe(true))
  })
  test('Verify: the verdict with value, uncertainty, limit, and the page to print', async () => {
    open('Verify', alder())
    expect((await screen.findByText('Sphere distance')).parentElement?.textContent).toBe('Sphere distance-0.0120.0100.060pass')
    expect(screen.getByRole('link', { name: 'Certificate to print' }).getAttribute('href')).toBe(`/api/v1/verifications/${uuid(80)}/certificate.pdf`)
  })
  test('History: an earlier calibration is put into use again', async () => {
    const earlier = { ...calibration, id: uuid(71), at: '2026-04-27T08:00:00Z' }
    const sent = open('History', alder({ calibrations: [earlier, calibration] }))
    fireEvent.click(await screen.findByRole('button', { name: 'Use it' }))
    await waitFor(() => expect(sent.some((s) => s.path === `scanners/${uuid(60)}/use/${uuid(71)}`)).toBe(true))
  })
})

describe('Ready', () => {
  test('a scanner is chosen for the job; too coarse is said here', async () => {
    const sent = fakeServer(({ path }) => (path === 'scanners' ? { body: [alder()] } : { body: {} }))
    show(<ReadyCard go={() => undefined} />, jobOf([], [], { scanner: uuid(60), tolerance: 0.05 }), 'Ready')
    const words = await screen.findByText(/too coarse for this tolerance/)
    expect(words.textContent).toMatch(/off by up to 0\.022 mm.*44 % of the tolerance of 0\.05 mm/)
    fireEvent.click(screen.getByRole('radio', { name: /Alder/ }))
    await waitFor(() => expect(sent.find((s) => s.method === 'PATCH')?.body).toEqual({ scanner: null }))
  })
})

describe('small parts', () => {
  test('guidance in words, and a nudge of the plate', () => {
    const match = {
      away: 42,
      right: 3,
      down: -30,
      topAway: 0,
      rightAway: -12,
      turn: 0,
      nearness: 0.5,
      matched: false,
      good: { away: 24, right: 24, down: 24, topAway: 6, rightAway: 6, turn: 30 },
    }
    const moved = jest.fn()
    render(<Guidance run={{ match } as CalibrationRun} onHand={moved} />)
    expect(screen.getByRole('group').textContent).toMatch(/42 mm further away.*good.*30 mm up.*good.*12° left side away.*good/)
    fireEvent.click(screen.getByRole('button', { name: 'further away' }))
    expect(moved).toHaveBeenCalledWith({ away: 10 })
  })
  test('image files are paired by their names', () => {
    const f = (n: string) => new File(['x'], n)
    expect(
      pairsOf([f('b_right.png'), f('a_left.png'), f('b_left.png'), f('A_right.png'), f('c_left.png'), f('d.png')]).map((p) => [p.left.name, p.right.name]),
    ).toEqual([
      ['a_left.png', 'A_right.png'],
      ['b_left.png', 'b_right.png'],
    ])
  })
  test('arrows have a round scale that one odd cell does not spoil', () => {
    const n = 40
    const field = {
      columns: n,
      rows: 1,
      u: Array.from({ length: n }, (_, i) => (i ? 0.0015 : 0.4)),
      v: Array.from({ length: n }, () => 0),
      counts: Array.from({ length: n }, () => 9),
    }
    expect(fieldScale([field])).toBeCloseTo(0.002, 9)
  })
})
