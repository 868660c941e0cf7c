/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, test } from '@jest/globals'
import { act, cleanup, fireEvent, screen, waitFor } from '@testing-library/react'
import type { CaptureRun, ScannerSummary } from '@oak-gauge/contract'
import { usualExposure } from '@oak-gauge/core/capture/exposing.ts'
import { readAngles } from '../src/stages/capture/Angles.tsx'
import { CaptureCard } from '../src/stages/capture/CaptureCard.tsx'
import { minutesLeft, Recording } from '../src/stages/capture/Recording.tsx'
import { store } from '../src/store.ts'
import { growing } from '../src/view/growing.ts'
import { view } from '../src/view/viewSlice.ts'
import { captureRun as run } from './capturing.ts'
import { button, fakeServer, item, jobOf, show, uuid, type Sent } from './help.tsx'

afterEach(cleanup)
const scanner = (name: string, n: number, more: object = {}) =>
  ({
    id: uuid(n),
    name,
    kind: 'laser-lines',
    on: true,
    link: 'connected',
    state: { warm: true },
    health: { state: 'go', reason: '' },
    run: null,
    warmIn: null,
    ...more,
  }) as unknown as ScannerSummary
/** Answers for two scanners, and the model that was recorded so far. */
function server(scanners: ScannerSummary[], answer: (s: Sent) => { status?: number; body?: unknown } | undefined = () => undefined): Sent[] {
  const sent = fakeServer((s) => answer(s) ?? (s.path === 'scanners' ? { body: scanners } : s.path.endsWith('/run') ? { body: null } : undefined))
  const plain = globalThis.fetch
  const cubes = Float32Array.of(1, 2, 3, 0, 0, 1, 1, 4, 5, 6, 0, 0, 1, 40)
  const frames = Float32Array.of(0, 0, 0.01, 100, 0.5, 2, NaN, 100)
  globalThis.fetch = (input: RequestInfo | URL, o?: RequestInit) => {
    const asked = typeof input === 'string' ? input : ''
    const bytes = asked.includes('/captured') ? cubes : asked.includes('/timeline') ? frames : null
    return bytes ? Promise.resolve(new Response(bytes.slice().buffer)) : plain(input, o)
  }
  return sent
}
function Model() {
  const g = growing.use()
  return <output data-model>{g ? `${g.count} ${[...(g.arrays['colours'] as Uint8Array)].join(' ')}` : 'nothing'}</output>
}
const value = (id: string) => document.querySelector(`[data-quantity="${id}"]`)?.textContent

describe('a pass from a scanner', () => {
  test('is begun with what holds its frames: by shape where there is no map, and markers are refused then', async () => {
    const sent = server([scanner('Alder', 60), scanner('Hazel', 62, { kind: 'fringe', turntable: true, own: true })])
    show(<CaptureCard go={() => undefined} />, jobOf([]))
    screen.getByRole('radio', { name: 'By scanner' }).click()
    await screen.findByText('its shape (there is no map)')
    // lines are thin: markers are advised
    screen.getByText(/with Alder, map markers first/)
    await waitFor(() => expect((button('Aim with Alder') as HTMLButtonElement).disabled).toBe(false))
    button('Aim with Alder').click()
    await waitFor(() => expect(sent.find((s) => s.method === 'POST')?.path).toMatch(/^jobs\/.*\/capture$/))
    expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({ scanner: uuid(60), by: 'auto', spacing: 1, cold: false })
  })
  test('begins with the light the brief asks for', async () => {
    const sent = server([scanner('Alder', 60)])
    const state = jobOf([])
    show(<CaptureCard go={() => undefined} />, { ...state, job: { ...state.job, surface: 'dark' } })
    screen.getByRole('radio', { name: 'By scanner' }).click()
    await screen.findByText('for a dark surface')
    screen.getByText('as the brief says')
    await waitFor(() => expect((button('Aim with Alder') as HTMLButtonElement).disabled).toBe(false))
    button('Aim with Alder').click()
    await waitFor(() => expect(sent.some((s) => s.method === 'POST')).toBe(true))
    expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({ light: { exposure: usualExposure('dark') } })
  })
  test('a turntable is turned to angles, in even steps or to some of one’s own; what it says itself may hold it', async () => {
    const sent = server([scanner('Hazel', 62, { kind: 'fringe', turntable: true, own: true })])
    show(<CaptureCard go={() => undefined} />, jobOf([]))
    screen.getByRole('radio', { name: 'By scanner' }).click()
    await screen.findByText('its turntable, and shape')
    expect(screen.getByText('8, every 45\u00b0')).toBeTruthy()
    fireEvent.mouseDown(screen.getByLabelText('Shots'))
    fireEvent.click(await screen.findByText('at angles of my own'))
    const typed = screen.getByLabelText('Angles')
    expect((typed as HTMLInputElement).value).toBe('0 45 90 135 180 225 270 315')
    fireEvent.change(typed, { target: { value: '0 30, x' } })
    await screen.findByText(/Angles in degrees/)
    fireEvent.change(typed, { target: { value: '0; 30, 75.5' } })
    expect(screen.queryByText(/Angles in degrees/)).toBeNull()
    await waitFor(() => expect((button('Set up Hazel') as HTMLButtonElement).disabled).toBe(false))
    button('Set up Hazel').click()
    await waitFor(() => expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({ by: 'auto', angles: [0, 30, 75.5] }))
  })
  test.each([
    ['', null],
    ['0 400', null],
    ['one', null],
    ['-90°, 90°', [-90, 90]],
  ])('angles as they are typed: %j', (text, list) => expect(readAngles(text)).toEqual(list))
  test('by the markers of the setup where it has a map', async () => {
    server([scanner('Alder', 60)])
    const state = jobOf([])
    state.tray.push(item('marker-map', 40, { kind: 'markers', setup: state.setups[0].id }))
    show(<CaptureCard go={() => undefined} />, state)
    screen.getByRole('radio', { name: 'By scanner' }).click()
    await screen.findByText('its markers (there is a map)')
    expect(screen.queryByText(/map markers first/)).toBeNull()
  })
  test('a scanner that is cold or switched off is said to be so', async () => {
    server([scanner('Alder', 60, { on: false, link: 'off', state: null })])
    show(<CaptureCard go={() => undefined} />, jobOf([]))
    screen.getByRole('radio', { name: 'By scanner' }).click()
    await screen.findByText(/Alder is switched off/)
    expect((button('Aim with Alder') as HTMLButtonElement).disabled).toBe(true)
  })
})

describe('a recording that goes on', () => {
  const shown = (more: Partial<CaptureRun> = {}) => {
    const sent = server([scanner('Alder', 60)])
    show(
      <>
        <Recording run={{ ...run, ...more }} scanner={{ id: uuid(60), name: 'Alder' }} />
        <Model />
      </>,
    )
    return sent
  }
  test('says how it is held, how far it has come, and shows what has grown: the darker the oftener it was seen', async () => {
    shown()
    expect(document.querySelector('[data-tracking]')?.textContent).toContain('steady')
    expect([value('frames'), value('in view'), value('rate'), value('sigma')]).toEqual(['1\u202f234 / 1\u202f200', '9', '16.2', '0.012 mm'])
    await waitFor(() => expect(document.querySelector('[data-model]')?.textContent).toMatch(/^2 /))
    const [, ...colours] = (document.querySelector('[data-model]')?.textContent ?? '').split(' ').map(Number)
    expect(colours.slice(0, 3).reduce((a, b) => a + b)).toBeGreaterThan(colours.slice(3).reduce((a, b) => a + b) + 100)
    cleanup()
    show(<Model />)
    expect(document.querySelector('[data-model]')?.textContent).toBe('nothing')
  })
  test.each<[string, Partial<CaptureRun>, string]>([
    ['lost', { tracking: 'lost', why: 'elsewhere', quarantine: 12 }, 'Lost: lead it back to where it knew its place'],
    ['held', { phase: 'held' }, 'Held: nothing is recorded'],
    ['waiting', { phase: 'waiting' }, 'The scanner is away'],
    ['ready', { phase: 'ready', frames: 0, placed: 0, tracking: 'none' }, 'Hold Alder over the part, and record'],
  ])('%s: the card says what to do', (_, more, question) => {
    shown(more)
    expect(screen.getByRole('heading', { name: question })).toBeTruthy()
    if (more.quarantine) expect(value('quarantine')).toBe('12')
  })
  test('while it is held: from where it should be seen next, in words', () => {
    const view = (looks: [number, number, number], open: number) => ({ at: [0, 0, 0] as [number, number, number], looks, open, gain: 1234, turn: null })
    shown({ phase: 'held', next: { views: [view([-0.8, 0, -0.6], 1), view([0.7071, -0.7071, 0], 0.2), view([0, 0.1, -0.99], 0)], poor: 5000, never: 120 } })
    const list = [...document.querySelectorAll('.next li')].map((l) => l.textContent)
    expect(list).toEqual([
      'from the right, 35\u00b0 up it ends there1\u202f234',
      'from the back left, level seen seldom1\u202f234',
      'from above seen seldom1\u202f234',
    ])
    expect(document.querySelector('.next')?.textContent).toContain('120 of 5\u202f000 places cannot be seen')
    cleanup()
    shown({ phase: 'held', next: { views: [], poor: 0, never: 0 } })
    expect(screen.getByText(/ends nowhere in the open/)).toBeTruthy()
    cleanup()
    shown({ next: { views: [view([0, 0, -1], 1)], poor: 5, never: 0 } })
    expect(document.querySelector('.next')).toBeNull()
  })
  test('of a turntable: how far it is, where something is missing, and one shot more', async () => {
    const table = { angle: 90, shots: 8, taken: 2, missing: false }
    shown({ table, map: false })
    expect(screen.getByRole('heading', { name: 'The table turns, and each time a shot is taken' })).toBeTruthy()
    expect(value('shots')).toBe('shot 3 of 8turned to 90\u00b0')
    // nobody leads it, and it sees no markers that count
    expect([screen.queryByText('Lead it once round'), value('in view')]).toEqual([null, undefined])
    cleanup()
    const next = { views: [{ at: [0, 0, 300], looks: [0, 0, -1], open: 1, gain: 70, turn: 22.5 }], poor: 100, never: 30 } as CaptureRun['next']
    const sent = shown({ phase: 'held', next, table: { ...table, angle: 315, taken: 8 } })
    expect(document.querySelector('.next li')?.textContent).toContain('turned to 22.5\u00b0')
    expect(document.querySelector('.next')?.textContent).toContain('30 of 100 places cannot be seen however the table is turned')
    button('Again where it is missing').click()
    button('Again, until nothing is gained').click()
    expect((button('One more shot') as HTMLButtonElement).disabled).toBe(true)
    fireEvent.change(screen.getByLabelText('Angle of one more shot, degrees'), { target: { value: '12' } })
    button('One more shot').click()
    await waitFor(() => expect(sent.filter((s) => s.method === 'POST').map((s) => s.body)).toEqual([{ until: 'once' }, { until: 'gained' }, { angles: [12] }]))
  })
  test('how much more fits into it is said when it is not much', async () => {
    // a megabyte a second, kept twice at its end: 4.256 GB less its own 0.06 and what the database wants
    expect(minutesLeft({ bytes: 6e7, seconds: 60 }, 4.256e9)).toBeCloseTo((4e9 - 6e7) / 2e6 / 60, 6)
    // far off, not known yet, or of a database elsewhere; and nothing is left
    expect([
      minutesLeft({ bytes: 6e7, seconds: 60 }, 1e12),
      minutesLeft({ bytes: 1e7, seconds: 10 }, 1e9),
      minutesLeft({ bytes: 6e7, seconds: 60 }, undefined),
    ]).toEqual([null, null, null])
    expect(minutesLeft({ bytes: 6e7, seconds: 60 }, 1e8)).toBe(0)
    server([scanner('Alder', 60)], (s) => (s.path === 'health' ? { body: { space: { free: 4.256e9, total: 1e11 } } } : undefined))
    show(<Recording run={{ ...run, bytes: 6e7, seconds: 60 }} scanner={{ id: uuid(60), name: 'Alder' }} />)
    await waitFor(() => expect(value('left')).toContain('about 32 more minutes'))
    cleanup()
    shown()
    expect(value('left')).toBeUndefined()
  })
  test('its buttons do what they say', async () => {
    const sent = shown()
    for (const [name, what] of [
      ['Hold', 'hold'],
      ['That is all: make the pass', 'end'],
      ['Give up', 'cancel'],
      ['Lead it once round', 'path'],
      ['nearer', 'hand'],
    ]) {
      button(name).click()
      await waitFor(() => expect(sent.filter((s) => s.method === 'POST').at(-1)?.path).toBe(`scanners/${uuid(60)}/run/${what}`))
    }
    expect(sent.at(-1)?.body).toMatchObject({ away: -40 })
  })
})

describe('light, limits and spacing of a recording', () => {
  const acted = (sent: Sent[]) => sent.filter((s) => s.method === 'POST').map((s) => [s.path.replace(/.*run./, ''), s.body])
  const light = async (way: string) => {
    fireEvent.mouseDown(screen.getByLabelText('Light'))
    fireEvent.click(await screen.findByTitle(way))
  }
  const recording = (more: Partial<CaptureRun>) => show(<Recording run={{ ...run, ...more }} scanner={{ id: uuid(60), name: 'Alder' }} />, jobOf([]))
  test('the light is changed while it records: by itself, for a surface, by a number, one line for pockets', async () => {
    const sent = server([])
    recording({})
    fireEvent.click(screen.getByText('Light, floor, limits, spacing'))
    await light('by itself')
    await light('for a glossy surface')
    const exposure = screen.getByLabelText('Exposure')
    fireEvent.change(exposure, { target: { value: '2.5' } })
    fireEvent.keyDown(exposure, { key: 'Enter' })
    fireEvent.click(screen.getByRole('radio', { name: 'one line, for pockets' }))
    await waitFor(() => expect(acted(sent)).toHaveLength(4))
    expect(acted(sent)).toEqual([
      ['light', { auto: true }],
      ['light', { exposure: usualExposure('glossy') }],
      ['light', { exposure: 2.5 }],
      ['light', { pattern: 'line' }],
    ])
    screen.getByText(/Hold it to set limits/)
    expect(screen.queryByLabelText('Spacing')).toBeNull()
  })
  test('a spot of the model is clicked that shall be well exposed; nothing is asked of the scanner before', async () => {
    const sent = server([])
    recording({})
    await light('by a spot')
    screen.getByText('Click the place of the model that shall be well exposed.')
    expect([acted(sent), store.getState().view.picking.kind]).toEqual([[], 'places'])
    act(() => void store.dispatch(view.placed({ at: [1, 2, 3], slot: 'recording', face: null })))
    await waitFor(() => expect(acted(sent)).toEqual([['light', { spot: [1, 2, 3] }]]))
    expect(store.getState().view.picking.kind).toBe('none')
    cleanup()
    recording({ light: { ...run.light, auto: true, spot: [1, 2, 3] } })
    fireEvent.click(button('Another spot'))
    expect(store.getState().view.picking.kind).toBe('places')
  })
  test('says what is too dark or too bright to be measured, and nothing while the scanner is away', () => {
    server([])
    recording({ light: { ...run.light, seen: { dark: 0.42, bright: 0.1 } } })
    screen.getByText('42 % of what is lit is too dark to be measured')
    cleanup()
    recording({ light: { ...run.light, seen: { dark: 0.02, bright: 0.3 } } })
    screen.getByText('30 % of what is lit is too bright to be measured')
    cleanup()
    recording({ phase: 'waiting', light: { ...run.light, exposure: null, pattern: null } })
    expect(screen.queryByLabelText('Exposure')).toBeNull()
  })
  test('limits and spacing are set while it is held, and all frames placed so; limits that leave nothing are not', async () => {
    const sent = server([])
    recording({ phase: 'held', near: 300 })
    expect(screen.queryByText('Place all frames so')).toBeNull()
    const type = (label: string, value: string) => {
      const field = screen.getByLabelText(label)
      fireEvent.change(field, { target: { value } })
      fireEvent.keyDown(field, { key: 'Enter' })
    }
    type('Nothing farther than', '280')
    await screen.findByText('The near limit must be nearer than the far one.')
    expect((button('Place all frames so') as HTMLButtonElement).disabled).toBe(true)
    type('Nothing farther than', '0.6 m')
    type('Spacing', '0.5')
    type('Nothing nearer than', '')
    fireEvent.click(button('Place all frames so'))
    await waitFor(() => expect(acted(sent)).toEqual([['place-anew', { spacing: 0.5, near: null, far: 600 }]]))
  })
  test('a floor is asked for with a click, told where it lies, and moved by a twentieth of a millimetre', async () => {
    const sent = server([])
    recording({})
    expect(screen.queryByLabelText('Raised by')).toBeNull()
    fireEvent.click(screen.getByRole('radio', { name: 'the table goes' }))
    await waitFor(() => expect(acted(sent)).toHaveLength(1))
    cleanup()
    recording({ floor: { ...run.floor, floor: 'table', raise: 0.5, found: { sigma: 0.043, beneath: 0.62 } } })
    screen.getByText('62 % of the model lies beneath; it is flat within 0.043 mm')
    fireEvent.keyDown(screen.getByLabelText('Raised by'), { key: 'ArrowDown' })
    await waitFor(() => expect(acted(sent)).toHaveLength(2))
    expect(acted(sent)).toEqual([
      ['floor', { floor: 'table', floorMarkers: [], raise: 0.5 }],
      ['floor', { floor: 'table', floorMarkers: [], raise: 0.45 }],
    ])
  })
  test('a floor by markers is sent when there are three; without a map it is not offered; why none was found is said', async () => {
    const sent = server([])
    recording({})
    fireEvent.click(screen.getByRole('radio', { name: 'by markers' }))
    screen.getByText('Three or more, far from one another; 0 so far.')
    const field = screen.getByLabelText('Markers on the table')
    for (const id of ['1', '3', '4']) {
      expect(acted(sent)).toEqual([])
      fireEvent.mouseDown(field)
      fireEvent.click(await screen.findByTitle(id))
    }
    await waitFor(() => expect(acted(sent)).toEqual([['floor', { floor: 'markers', floorMarkers: ['1', '3', '4'], raise: 0.5 }]]))
    cleanup()
    const problem = { code: 'no-floor', detail: 'No plane lies beneath all that was recorded.', where: '', remedy: 'Record some of the table.' }
    recording({ floor: { ...run.floor, floor: 'table', markers: [], problem } })
    screen.getByText('No plane lies beneath all that was recorded. Record some of the table.')
    expect(screen.queryByRole('radio', { name: 'by markers' })).toBeNull()
  })
})
