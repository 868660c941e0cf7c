/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals'
import { cleanup, fireEvent, render, screen, waitFor, within } from '@testing-library/react'
import { App } from 'antd'
import type { ReactNode } from 'react'
import { Provider } from 'react-redux'
import { MemoryRouter, Route, Routes } from 'react-router'
import type { CalibrationDetail, JobSummary, ScannerDetail, ScannerSummary } from '@oak-gauge/contract'
import type { Field } from '@oak-gauge/core/calibrate/calibration.ts'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { api } from '../src/api.ts'
import { JobCard } from '../src/bench/JobCard.tsx'
import { formatDay, formatMoment } from '../src/looks/when.ts'
import { CoverageMap } from '../src/scanners/calibrate/CoverageMap.tsx'
import { ResultView } from '../src/scanners/calibrate/ResultView.tsx'
import { VectorField } from '../src/scanners/calibrate/VectorField.tsx'
import { sendPair } from '../src/scanners/calibrate/imagefiles.ts'
import { AddCertificate, CertificateWords } from '../src/scanners/certificates.tsx'
import { Exposure } from '../src/scanners/Exposure.tsx'
import { Shelf } from '../src/scanners/Shelf.tsx'
import { VolumePicture } from '../src/scanners/verify/VolumePicture.tsx'
import { fitness, FitWords } from '../src/stages/ready/fitness.tsx'
import { store } from '../src/store.ts'
import { button, fakeServer, uuid, type Sent } from './help.tsx'

afterEach(cleanup)

function inPage(what: ReactNode, answer?: Parameters<typeof fakeServer>[0]): Sent[] {
  store.dispatch(api.util.resetApiState())
  const sent = fakeServer(answer)
  render(
    <Provider store={store}>
      <App>
        <MemoryRouter>
          <Routes>
            <Route path="/scanners/:id" element={<p>the page of a scanner</p>} />
            <Route path="*" element={what} />
          </Routes>
        </MemoryRouter>
      </App>
    </Provider>,
  )
  return sent
}

const row = (value: number, uncertainty = 0.01) => ({ name: 'distance' as const, value, limit: 0.06, uncertainty, verdict: 'pass' as const, position: 0 })
const scanner = (more: Partial<ScannerSummary> = {}): ScannerSummary => ({
  id: uuid(60),
  name: 'Alder',
  model: 'hand-held laser lines',
  serial: 'AL-1',
  kind: 'laser-lines',
  turntable: false,
  own: false,
  standIn: null,
  on: false,
  address: 'ws://10.0.0.9:1',
  link: 'off',
  problem: null,
  state: null,
  warmIn: null,
  health: { state: 'no-go', reason: 'Never calibrated here.', goodUntil: null },
  calibration: null,
  verification: null,
  run: null,
  ...more,
})
const verified = (value: number, uncertainty = 0.01) => ({
  id: uuid(80),
  at: '2026-05-04T09:00:00Z',
  calibration: uuid(70),
  bar: 'Windlass 300',
  cold: false,
  verdict: 'pass' as const,
  rows: [row(value, uncertainty)],
  positions: 7,
})

describe('the shelf', () => {
  test('without scanners it says how one joins', async () => {
    inPage(<Shelf />, () => ({ body: [] }))
    expect(await screen.findByText(/joins by the address of its bridge/)).toBeTruthy()
  })
  test('each scanner with what there is to say of it, and its switch', async () => {
    const list = [
      scanner(),
      scanner({
        id: uuid(61),
        name: 'Hazel',
        on: true,
        link: 'connected',
        health: { state: 'go', reason: 'Calibrated.', goodUntil: Date.now() + 86_400_000 },
        state: { celsius: 34.1, room: 20, warm: true, exposure: 1, pattern: 'area' },
        verification: verified(-0.0123),
      }),
    ]
    const sent = inPage(<Shelf />, ({ method }) => (method === 'GET' ? { body: list } : { body: {} }))
    const hazel = (await screen.findByText('Hazel')).closest<HTMLElement>('[data-scanner]')!
    expect(hazel.textContent).toMatch(/0\.012 mm.*on the ball bar.*good until.*34\.1 °C, warm/)
    const alder = screen.getByText('Alder').closest<HTMLElement>('[data-scanner]')!
    expect(alder.textContent).toMatch(/not verified.*not fit for use: never calibrated here.*switched off/)
    fireEvent.click(within(alder).getByRole('switch', { name: 'Alder on' }))
    await waitFor(() => expect(sent.find((s) => s.method === 'PATCH')).toMatchObject({ path: `scanners/${uuid(60)}`, body: { on: true } }))
  })
  test('a scanner is added by its address; what is wrong with it is said, and what was typed stays', async () => {
    const wrong = { code: 'no-scanner', detail: 'No scanner answers at this address.', where: 'ws://nowhere', remedy: 'Switch it on, and check the address.' }
    let answers = 0
    inPage(<Shelf />, ({ method }) => (method === 'GET' ? { body: [] } : ++answers === 1 ? { status: 422, body: wrong } : { body: scanner() }))
    fireEvent.click(await screen.findByRole('button', { name: 'Add a scanner' }))
    const input = screen.getByLabelText<HTMLInputElement>('Address of the scanner or its bridge')
    fireEvent.change(input, { target: { value: 'ws://nowhere' } })
    fireEvent.click(button('Connect'))
    expect(await screen.findByText('No scanner answers at this address.')).toBeTruthy()
    expect(input.value).toBe('ws://nowhere')
    fireEvent.click(button('Connect'))
    expect(await screen.findByText('the page of a scanner')).toBeTruthy()
  })
})

describe('a job card', () => {
  const job = {
    id: uuid(1),
    title: 'Bracket',
    part: '',
    purpose: 'inspection',
    tolerance: 0.2,
    stage: 'Clean',
    headline: 'Clean: 8 passes wait',
    busy: false,
    picture: null,
    ofNominal: false,
  } as unknown as JobSummary
  test.each<[ScannerSummary['health']['state'], string]>([
    ['go', 'Alder'],
    ['due', 'Alder: due'],
    ['no-go', 'Alder: no-go'],
  ])('names the scanner it uses, %s', async (state, words) => {
    inPage(<JobCard job={{ ...job, scanner: uuid(60) }} onDelete={() => undefined} />, () => ({
      body: [scanner({ health: { state, reason: '', goodUntil: null } })],
    }))
    expect(await screen.findByText(words)).toBeTruthy()
  })
  test('and none when none was chosen', async () => {
    const sent = inPage(<JobCard job={{ ...job, scanner: null }} onDelete={() => undefined} />, () => ({ body: [scanner()] }))
    await waitFor(() => expect(sent).toHaveLength(1))
    expect(screen.queryByText('Alder')).toBeNull()
  })
})

describe('is it fine enough', () => {
  // common practice, no source: a tenth, at most a fifth of the tolerance
  test.each<[number, number, string]>([
    [0.004, 0.2, 'fine'],
    [0.02, 0.2, 'tight'],
    [0.05, 0.2, 'too-coarse'],
  ])('%d mm of %d mm: %s', (value, tolerance, level) => {
    const s = scanner({ verification: verified(value, 0.002) })
    expect(fitness(s, tolerance)?.level).toBe(level)
    inPage(<FitWords scanner={s} tolerance={tolerance} />)
    expect(document.querySelector('[data-fit]')?.getAttribute('data-fit')).toBe(level)
  })
  test('not verified: not known, with the way to know it', () => {
    inPage(<FitWords scanner={scanner()} tolerance={0.1} />)
    expect(screen.getByRole('link', { name: 'Verify it' }).getAttribute('href')).toBe(`/scanners/${uuid(60)}/Verify`)
  })
  test('without a tolerance there is nothing to say', () => {
    inPage(<FitWords scanner={scanner({ verification: verified(0.01) })} tolerance={null} />)
    expect(document.querySelector('[data-fit]')).toBeNull()
  })
})

describe('exposure', () => {
  const detail = { ...scanner({ state: { celsius: 30, room: 20, warm: true, exposure: 1.4, pattern: 'line' } }) } as ScannerDetail
  test('is typed, and put back by its mark', async () => {
    const sent = inPage(<Exposure scanner={detail} />)
    const input = document.querySelector<HTMLInputElement>('input.amount, .amount input, input')!
    fireEvent.change(input, { target: { value: '0,7' } })
    fireEvent.keyDown(input, { key: 'Enter' })
    await waitFor(() => expect(sent[0]?.body).toEqual({ exposure: 0.7 }))
    fireEvent.click(button('changed'))
    await waitFor(() => expect(sent[1]?.body).toEqual({ exposure: 1 }))
  })
  test('what is no exposure is not sent', () => {
    const sent = inPage(<Exposure scanner={detail} />)
    const input = document.querySelector<HTMLInputElement>('input.amount, .amount input, input')!
    fireEvent.change(input, { target: { value: 'bright' } })
    fireEvent.keyDown(input, { key: 'Enter' })
    expect([sent.length, screen.getByRole('alert').textContent]).toEqual([0, 'A number above 0.'])
  })
  test('of a scanner that is away there is none', () => {
    inPage(<Exposure scanner={{ ...detail, state: null }} />)
    expect(screen.queryByLabelText(/Exposure/)).toBeNull()
  })
})

describe('certificates', () => {
  const plate = {
    id: uuid(90),
    kind: 'plate' as const,
    name: 'Quoin 12',
    size: 12,
    certificate: { number: '1', laboratory: '', date: '2024-03-01', ends: '2026-03-01', valid: false },
  }
  test('one that has ended says so', () => {
    inPage(<CertificateWords of={plate} before="Its pitch does not suit this lens. " />)
    expect(screen.getByText(/does not suit this lens\. certificate of 2024-03-01, ended on 2026-03-01/)).toBeTruthy()
  })
  test('a file comes in as it is; a bad one is said', async () => {
    let answers = 0
    const bad = { code: 'bad-certificate', detail: 'The certificate says NaN where a number belongs.', where: 'p.json, line 4', remedy: 'Ask the laboratory.' }
    const sent = inPage(<AddCertificate kind="plate" />, () => (++answers === 1 ? { status: 422, body: bad } : { status: 201, body: plate }))
    const give = (text: string) =>
      fireEvent.change(screen.getByLabelText('Certificate file of a plate'), {
        target: { files: [Object.assign(new File([text], 'p.json'), { text: () => Promise.resolve(text) })] },
      })
    give('{"pitch": 1}')
    expect(await screen.findByText(bad.detail)).toBeTruthy()
    expect(screen.getByText('p.json, line 4')).toBeTruthy()
    give('{"pitch": 2}')
    expect(await screen.findByText('Quoin 12 was added.')).toBeTruthy()
    expect(sent.map((s) => [s.method, s.path, s.body.pitch])).toEqual([
      ['PUT', 'artefacts?name=p.json', 1],
      ['PUT', 'artefacts?name=p.json', 2],
    ])
  })
})

describe('image pairs', () => {
  const f = (n: string) => new File(['x'], n)
  test('go one side after the other; the first refusal ends it', async () => {
    const asked: string[] = []
    globalThis.fetch = jest.fn((url: unknown) => {
      asked.push(String(url))
      return Promise.resolve(
        new Response(asked.length === 2 ? JSON.stringify({ code: 'wrong-size', detail: 'too small', where: '', remedy: '' }) : '{}', {
          status: asked.length === 2 ? 422 : 200,
        }),
      )
    })
    const problem = await sendPair('s1', 3, { left: f('a left.png'), right: f('a right.png') })
    expect([problem?.detail, asked]).toEqual([
      'too small',
      ['/api/v1/scanners/s1/images?side=left&pair=3&name=a+left.png', '/api/v1/scanners/s1/images?side=right&pair=3&name=a+right.png'],
    ])
  })
})

describe('pictures', () => {
  const field = (u: number): Field => ({ columns: 2, rows: 1, u: [u, 0], v: [0, 0], counts: [9, 0] })
  test('the field of arrows: an arrow where dots were seen, a dash where none was', () => {
    const { container } = render(<VectorField field={field(0.01)} coverage={{ columns: 1, rows: 1, counts: [4] }} name="left" scale={0.01} />)
    const line = container.querySelector('line')!
    expect([
      Number(line.getAttribute('x2')) - Number(line.getAttribute('x1')),
      container.querySelectorAll('line').length,
      container.querySelectorAll('path').length,
    ]).toEqual([40, 1, 1])
  })
  test('an arrow far beyond the scale is cut', () => {
    const { container } = render(<VectorField field={field(9)} coverage={{ columns: 1, rows: 1, counts: [4] }} name="left" scale={0.01} />)
    const line = container.querySelector('line')!
    expect(Number(line.getAttribute('x2')) - Number(line.getAttribute('x1'))).toBeCloseTo(80, 6)
  })
  test('coverage: nothing, stipple, solid', () => {
    const { container } = render(<CoverageMap coverage={{ columns: 3, rows: 1, counts: [0, 2, 20] }} label="left image" />)
    const fills = [...container.querySelectorAll('rect')].map((r) => r.getAttribute('fill'))
    expect(fills).toEqual(['var(--card)', 'url(#stipple)', 'var(--oak)', 'none'])
    expect(screen.getByRole('img', { name: 'left image: 33 % covered' })).toBeTruthy()
  })
  test('the bar in the working volume: as many as were measured, the bad one in brick', () => {
    const reading = (distance: number) => ({ middle: [0, 0, 400], direction: [1, 0, 0], distance, uncertainty: 0.005, spheres: [] }) as never
    const detail = { ...scanner(), spec: { ...DEVICES['alder'].spec, arm: true } } as ScannerDetail
    const { container } = render(<VolumePicture scanner={detail} readings={[reading(0.01), reading(0.2)]} length={300} limit={0.06} />)
    expect([container.querySelectorAll('circle').length, container.querySelectorAll('g[stroke="var(--brick)"]').length]).toEqual([8, 2])
    const [first] = container.querySelectorAll('svg:first-of-type g line')
    expect(Number(first.getAttribute('x2')) - Number(first.getAttribute('x1'))).toBeCloseTo(300, 6)
  })
})

describe('the result of a calibration', () => {
  const camera = { width: 1024, height: 768, fx: 1050.1234, fy: 1050, cx: 511, cy: 383, k1: -0.11, k2: 0.04, p1: 0, p2: 0, k3: 0 }
  const sd = { fx: 0.0067, fy: 0.0067, cx: 0.011, cy: 0.008, k1: 4.6e-5, k2: 3e-4, k3: 7e-4, p1: 1.7e-6, p2: 2e-6 }
  const empty: Field = { columns: 1, rows: 1, u: [0], v: [0], counts: [9] }
  const calibration = (verdict: 'go' | 'no-go', more: object = {}): CalibrationDetail =>
    ({
      id: uuid(70),
      at: '2026-05-04T08:00:00Z',
      plate: 'Quoin 12',
      cold: false,
      verdict,
      scanner: uuid(60),
      judgement: {
        verdict,
        findings:
          verdict === 'go'
            ? []
            : [{ level: 'stop', message: 'The distance of the cameras comes out 1.00 % larger than last time.', remedy: 'Compare the plate file.' }],
      },
      result: {
        stereo: { left: camera, right: camera, pose: Array.from(identity()) },
        uncertainty: { left: sd, right: sd, baseline: 0.00037, angle: 0.001 },
        baseline: 140.48337,
        rms: 0.00884,
        mean: 0.0076,
        largest: 0.0351,
        poses: [
          { rms: 0.008, out: false, pose: [] },
          { rms: 0.4, out: true, pose: [] },
        ],
        field: { left: empty, right: empty },
        coverage: { left: { columns: 1, rows: 1, counts: [9] }, right: { columns: 1, rows: 1, counts: [9] } },
        covered: 0.93,
        dots: 7587,
        leftOut: 8,
      },
      previous: null,
      ...more,
    }) as unknown as CalibrationDetail
  const detail = { ...scanner(), spec: DEVICES['alder'].spec } as ScannerDetail

  test('numbers have the digits that their uncertainty leaves, and the change since last time', () => {
    const previous = { id: uuid(69), at: '2026-04-27T08:00:00Z', result: { baseline: 140.48371, stereo: { left: { ...camera, fx: 1050.1 }, right: camera } } }
    inPage(<ResultView scanner={detail} go={() => undefined} calibration={calibration('go', { previous })} />)
    expect(document.querySelector('[data-number="left fx"]')?.textContent).toBe('1050.1234 ± 0.0067 px')
    expect(screen.getByText('+0.0234')).toBeTruthy()
    expect(screen.getByText('140.48337 ± 0.00037 mm')).toBeTruthy()
    expect(screen.getByText('-0.00034 mm')).toBeTruthy()
    expect(screen.getByText('1 of 2')).toBeTruthy()
    expect(screen.getByText(/8 single dots did not fit/)).toBeTruthy()
  })
  test('a good one is put into use, and leads on to the ball bar', async () => {
    const go = jest.fn()
    const sent = inPage(<ResultView scanner={detail} go={go} calibration={calibration('go')} />)
    fireEvent.click(button('Put it into use'))
    await waitFor(() => expect(go).toHaveBeenCalledWith('Verify'))
    // put into use first; then the scanner is looked at again, and only then the page goes on
    const put = sent.findIndex((r) => r.method === 'POST')
    expect(sent[put]).toMatchObject({ method: 'POST', path: `scanners/${uuid(60)}/use/${uuid(70)}` })
    expect(sent.slice(put + 1).some((r) => r.method === 'GET' && r.path === `scanners/${uuid(60)}`)).toBe(true)
  })
  test('one that is no-go says why and what to do, and cannot be put into use', () => {
    const again = jest.fn()
    inPage(<ResultView scanner={detail} go={() => undefined} calibration={calibration('no-go')} onAgain={again} />)
    expect(screen.getByRole('alert').textContent).toMatch(/1\.00 % larger than last time\. Compare the plate file\./)
    expect(screen.queryByRole('button', { name: 'Put it into use' })).toBeNull()
    fireEvent.click(button('Calibrate again'))
    expect(again).toHaveBeenCalled()
  })
})

describe('days', () => {
  const now = new Date('2026-05-04T12:00:00').getTime()
  test('soon by their name, else by their date', () => {
    expect(formatDay(now + 86_400_000, now)).toBe('Tue 12:00')
    expect(formatDay(now + 9 * 86_400_000, now)).toBe('13 May')
    expect(formatMoment(now)).toBe('4 May, 12:00')
  })
})
