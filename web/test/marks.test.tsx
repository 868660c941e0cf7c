/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeAll, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react'
import type { ReactNode } from 'react'
import { packHeader, padding, type ContainerEntry, type MappedMarker, type MappingRun, type ScannerSummary } from '@oak-gauge/contract'
import type { PlanVerdict } from '@oak-gauge/core/markers/plan/judge.ts'
import { mark, markSlice, type PlanMarker } from '../src/stages/mark/markSlice.ts'
import { inOrder, markersOf, nearestOther } from '../src/stages/mark/markers.ts'
import { MapPicture } from '../src/stages/mark/MapPicture.tsx'
import { directionWords, ViewSphere } from '../src/stages/mark/ViewSphere.tsx'
import { store } from '../src/store.ts'
import { button, doing, fakeServer, item, jobOf, show, step, uuid, type Sent } from './help.tsx'

const verdict: PlanVerdict = {
  seen: [6, 5, 2],
  why: ['', 'hidden', 'too steep'],
  enough: 2 / 3,
  comfortable: 1 / 3,
  weakest: 2,
  lookAlikes: [],
  islands: 1,
  nearest: 51,
  median: 60,
  warnings: ['From 33 % of the directions fewer than 4 markers are seen.'],
}
const judged = { verdict, directions: [0, 0, 1, 0.8, 0, 0.6, 0, -0.9, 0.436], took: 12 }
const asked: unknown[] = []
// a page in a test has no threads: the planner answers at once
jest.unstable_mockModule('../src/stages/mark/planner.ts', () => ({
  openPlanner: (o: unknown) => void asked.push(o),
  judge: () => Promise.resolve(judged),
  placeBy: () => Promise.resolve(null),
  hiddenFrom: () => Promise.resolve(null),
}))
let MarkCard: (p: { go(): void }) => ReactNode
let MapRunning: (p: { head: ReactNode; run: MappingRun; scanner: { id: string; name: string } }) => ReactNode
beforeAll(async () => {
  MarkCard = (await import('../src/stages/mark/MarkCard.tsx')).MarkCard
  MapRunning = (await import('../src/stages/mark/MapRunning.tsx')).MapRunning
})
beforeEach(() => void store.dispatch(mark.cleared()))
afterEach(cleanup)

const arrays = {
  ids: new TextEncoder().encode('10\n2\nA'),
  positions: Float32Array.of(0, 0, 0, 50, 0, 0, 0, 80, 0),
  diameters: Float32Array.of(6, 3, 6),
  normals: Float32Array.of(0, 0, 1, 0, 0, 1, 0, 0, 1),
  covariance: Float32Array.from({ length: 18 }, (_, i) => ([0, 3, 5].includes(i % 6) ? 1e-6 : 0)),
  frames: Uint32Array.of(20, 30, 40),
  perch: Uint8Array.of(0, 1, 2),
}
function packed(): Uint8Array {
  const list = Object.entries(arrays)
  const type = (a: ArrayBufferView) => (a instanceof Float32Array ? 'f32' : a instanceof Uint32Array ? 'u32' : 'u8')
  const parts = [packHeader(list.map(([name, a]): ContainerEntry => ({ name, type: type(a), length: a.length })))]
  for (const [, a] of list) parts.push(new Uint8Array(a.buffer.slice(0)), new Uint8Array(padding(a.byteLength)))
  return Uint8Array.from(parts.flatMap((p) => [...p]))
}
/** The shelf has Alder, warm and connected; items are marker sets. */
function server(answer: (s: Sent) => { status?: number; body?: unknown } | undefined = () => undefined): Sent[] {
  const alder = {
    id: uuid(60),
    name: 'Alder',
    kind: 'laser-lines',
    on: true,
    link: 'connected',
    state: { warm: true },
    health: { state: 'go', reason: '' },
    run: null,
    warmIn: null,
  } as unknown as ScannerSummary
  const camera = { width: 1024, height: 768, fx: 1050 }
  const sent = fakeServer((s) => {
    const own = answer(s)
    if (own) return own
    if (s.path === 'scanners') return { body: [alder] }
    if (s.path === `scanners/${uuid(60)}`) return { body: { ...alder, spec: { range: { near: 250, ideal: 400, far: 550 }, design: { left: camera } } } }
    if (s.path.endsWith('/run')) return { body: null }
    return undefined
  })
  const plain = globalThis.fetch
  globalThis.fetch = (input: RequestInfo | URL, o?: RequestInit) =>
    typeof input === 'string' ? Promise.resolve(new Response(packed() as BodyInit)) : plain(input, o)
  return sent
}

const planned = (n = 0) => item('marker-plan', 30 + n, { kind: 'markers', count: 3, name: 'Marker plan', step: uuid(531) })
const mapped = (n = 0, setup = 11) => item('marker-map', 40 + n, { kind: 'markers', count: 3, name: 'Markers, Setup 1', setup: uuid(setup), step: uuid(532) })

describe('markers as the page knows them', () => {
  test('come out of the arrays, in the job', () => {
    const list = markersOf(arrays, [1, 0, 0, 100, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1])
    expect(list.map((m) => m.id)).toEqual(['10', '2', 'A'])
    expect(list[1].at).toEqual([150, 0, 0])
    expect(list[2].perch).toBe('block-30')
    expect(list[0].u).toBeCloseTo(0.001, 6)
    expect(nearestOther(list, list[0])).toEqual({ id: '2', distance: 50 })
    expect(inOrder(list).map((m) => m.id)).toEqual(['2', '10', 'A'])
    expect(markersOf({ ...arrays, diameters: new Float32Array(0) }, [])).toEqual([])
  })

  test('a draft is changed marker by marker', () => {
    const m: PlanMarker = { id: '1', at: [0, 0, 0], normal: [0, 0, 1], diameter: 6, perch: 'part' }
    const { reducer, actions } = markSlice
    let s = reducer(undefined, actions.draft([m, { ...m, id: '3' }]))
    s = reducer(s, actions.added({ at: [9, 9, 9], normal: [0, 0, 1], diameter: 3, perch: 'table' }))
    expect(s.draft?.map((x) => x.id)).toEqual(['1', '3', '2'])
    expect(s.selected).toBe('2')
    s = reducer(s, actions.moved({ id: '1', at: [5, 0, 0], normal: [0, 1, 0], perch: 'table' }))
    expect(s.draft?.[0]).toMatchObject({ at: [5, 0, 0], perch: 'table', diameter: 6 })
    s = reducer(s, actions.sized({ id: '1', diameter: 3 }))
    expect(s.draft?.[0].diameter).toBe(3)
    s = reducer(s, actions.removed('3'))
    expect(s.draft?.map((x) => x.id)).toEqual(['1', '2'])
    expect(reducer(s, actions.draft(null)).draft).toBeNull()
  })

  test('directions are said in words', () => {
    expect(directionWords(0, 0, 1)).toBe('from above')
    expect(directionWords(0, 0, -1)).toBe('from below')
    expect(directionWords(0, -0.9, 0.436)).toBe('from the front, 26° over level')
    expect(directionWords(0.7, 0.7, -0.1)).toBe('from back right, 6° below level')
  })

  test('the sphere shows by shape where it is weak, and says why', () => {
    const { container } = render(<ViewSphere judged={judged} least={4} wanted={6} />)
    expect(container.querySelectorAll('svg .full')).toHaveLength(1)
    expect(container.querySelectorAll('svg .open')).toHaveLength(1)
    expect(container.querySelectorAll('svg .bad')).toHaveLength(1)
    expect(container.querySelector('[data-direction]')?.textContent).toMatch(/Weakest: from the front.*2 markers seen; of the others most are too steep/)
    fireEvent.pointerEnter(container.querySelectorAll('svg g')[1])
    expect(container.querySelector('[data-direction]')?.textContent).toMatch(/from the right.*most are hidden/)
  })
})

describe('planning', () => {
  test('begins on the nominal, with reasoned defaults, for the scanner of the job', async () => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('plan-markers', { state: 'queued' }) } : undefined))
    show(<MarkCard go={() => undefined} />, jobOf([item('nominal', 1, { faces: 6 })]), 'Mark')
    await screen.findByText(/Planned for Alder, 250 to 550 mm/)
    expect(screen.getByText('pick faces', { exact: false })).toBeTruthy()
    await doing(() => fireEvent.click(button('Propose places')))
    await waitFor(() => expect(sent.some((s) => s.path.endsWith('/steps'))).toBe(true))
    const { body } = sent.find((s) => s.path.endsWith('/steps'))!
    expect(body.operation).toBe('plan-markers')
    expect(body.inputs).toEqual({ shape: [uuid(1)] })
    expect(body.params).toMatchObject({
      where: 'both',
      wanted: 6,
      least: 4,
      spacing: 50,
      clearEdge: 25,
      sizes: 'mixed',
      scanner: { near: 250, ideal: 400, far: 550, focal: 1050 },
    })
  })

  test('without a part asks for the size of a box; a length may be typed in any way', async () => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('plan-markers', { state: 'queued' }) } : undefined))
    show(<MarkCard go={() => undefined} />, jobOf([]), 'Mark')
    await screen.findByText(/Planned for Alder/)
    const length = screen.getByLabelText('Length')
    fireEvent.change(length, { target: { value: '4 in' } })
    await doing(() => fireEvent.blur(length))
    await doing(() => fireEvent.click(button('Propose places')))
    await waitFor(() => expect(sent.find((s) => s.path.endsWith('/steps'))?.body.params.shape).toEqual({ kind: 'box', x: 101.6, y: 120, z: 60 }))
  })

  test('shows what a plan is worth, and keeps what was changed by hand as a step', async () => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('plan-markers', { state: 'queued' }) } : undefined))
    const plan = step('plan-markers', {
      id: uuid(531),
      params: { where: 'part' },
      inputs: { shape: [uuid(1)] },
      evidence: { quantities: [], warnings: ['2 markers lie nearer than 25 mm to an edge.'] },
    })
    show(<MarkCard go={() => undefined} />, jobOf([item('nominal', 1), planned()], [plan]), 'Mark')
    await doing(() => fireEvent.click(screen.getByText('Plan')))
    await screen.findByText('3 markers')
    expect(await screen.findByText('67 %')).toBeTruthy()
    expect(screen.getByText(/nearer than 25 mm to an edge/)).toBeTruthy()
    expect(screen.getByRole('link', { name: 'Sheet to print' }).getAttribute('href')).toBe(`/api/v1/items/${uuid(1030)}/placement.pdf`)
    await doing(() => fireEvent.click(button('Change by hand')))
    await doing(() => fireEvent.click(button('Marker 2')))
    expect(screen.getByText(/2 sits on the table/)).toBeTruthy()
    await doing(() => fireEvent.click(button('Remove 2')))
    await doing(() => fireEvent.click(button('Keep these changes')))
    await waitFor(() => expect(sent.some((s) => s.path.endsWith('/steps'))).toBe(true))
    const { params, inputs } = sent.find((s) => s.path.endsWith('/steps'))!.body
    expect(params.propose).toBe(false)
    expect(params.fixed.map((m: PlanMarker) => m.id)).toEqual(['10', 'A'])
    expect(inputs.plan).toEqual([uuid(30)])
  })
})

const markerOf = (id: string, more: Partial<MappedMarker> = {}): MappedMarker => ({
  id,
  at: [Number(id) * 40 || 0, 20, 0],
  diameter: 6,
  u: 0.004,
  angle: 60,
  sightings: 40,
  now: true,
  state: 'enough',
  moved: null,
  ...more,
})
const running = (more: Partial<MappingRun> = {}): MappingRun => ({
  kind: 'mapping',
  job: uuid(1),
  setup: uuid(11),
  phase: 'recording',
  sequence: 5,
  frames: 120,
  lost: 3,
  tracking: 'tracked',
  why: '',
  inView: 9,
  fits: 8,
  target: 0.02,
  enough: 2,
  markers: [markerOf('1'), markerOf('2', { now: false }), markerOf('3', { u: 0.06, state: 'directions', angle: 12 }), markerOf('', { u: null, state: 'new' })],
  moved: [],
  missing: [],
  absent: ['7'],
  added: ['8'],
  scanner: { at: [0, 0, 400], looks: [0, 0.3, -0.95] },
  distance: 411,
  range: { near: 250, ideal: 400, far: 550 },
  standIn: true,
  turntable: false,
  path: null,
  problem: null,
  step: null,
  ...more,
})

describe('mapping', () => {
  test('says what is known, what each still wants, and what was planned and not found', () => {
    server()
    show(<MapRunning head={null} run={running()} scanner={{ id: uuid(60), name: 'Alder' }} />)
    expect(document.querySelector('[data-quantity="enough"]')?.textContent).toBe('2 of 4')
    expect(screen.getByText('from more sides')).toBeTruthy()
    expect(screen.getByText(/Planned and not found yet: 7/)).toBeTruthy()
    expect(screen.getByText(/in the map now: 8/)).toBeTruthy()
    expect(screen.getByRole('img', { name: /411 mm, good/ })).toBeTruthy()
    // the least known first
    expect([...document.querySelectorAll('[data-u]')].map((d) => d.textContent)).toEqual(['0.0600', '0.0040', '0.0040'])
  })

  test('names what moved, with how far and how sure; what moved together is said once', () => {
    server()
    const alone = { id: '2', distance: 0.31, uncertainty: 0.004, together: [] }
    const { unmount } = show(<MapRunning head={null} run={running({ moved: [alone], missing: ['9'] })} scanner={{ id: uuid(60), name: 'Alder' }} />)
    expect(document.querySelector('[data-moved="2"]')?.textContent).toMatch(/moved by 0\.310 ± 0\.008 mm/)
    expect(document.querySelector('[data-missing="9"]')).toBeTruthy()
    unmount()
    const together = ['1', '2', '3'].map((id) => ({ ...alone, id, together: ['1', '2', '3'] }))
    show(<MapRunning head={null} run={running({ moved: together })} scanner={{ id: uuid(60), name: 'Alder' }} />)
    expect(document.querySelectorAll('[data-moved]')).toHaveLength(0)
    expect(document.querySelector('[data-moved-together]')?.textContent).toMatch(/1, 2, 3 moved at one time/)
  })

  test('says why it is lost, and that nothing of it counts', () => {
    server()
    show(<MapRunning head={null} run={running({ tracking: 'lost', why: 'ambiguous', distance: null })} scanner={{ id: uuid(60), name: 'Alder' }} />)
    expect(screen.getByText(/these markers look like others\. Nothing of this goes into the map/)).toBeTruthy()
    expect(screen.getByText(/lead it back/)).toBeTruthy()
  })

  test('with a turntable there is no hand to move', () => {
    server()
    show(<MapRunning head={null} run={running({ turntable: true })} scanner={{ id: uuid(60), name: 'Hazel' }} />)
    expect(button('Turn the table once round')).toBeTruthy()
    expect(screen.queryByRole('button', { name: 'nearer' })).toBeNull()
  })

  test('sends what the hand does', async () => {
    const sent = server((s) => (s.method === 'POST' ? { status: 202, body: running() } : undefined))
    show(<MapRunning head={null} run={running()} scanner={{ id: uuid(60), name: 'Alder' }} />)
    await doing(() => fireEvent.click(button('Lead it once round')))
    await doing(() => fireEvent.click(button('nearer')))
    await doing(() => fireEvent.click(button('Knock against')))
    await doing(() => fireEvent.click(button('Hold')))
    await waitFor(() => expect(sent.filter((s) => s.method === 'POST')).toHaveLength(4))
    const posts = sent.filter((s) => s.method === 'POST')
    expect(posts.map((s) => s.path.split('/').at(-1))).toEqual(['path', 'hand', 'nudge', 'hold'])
    expect(posts[1].body).toEqual({ away: -40 })
    expect(posts[2].body).toEqual({ marker: '2', distance: 0.3 })
  })

  test('the picture shows by shape: ring, filled, dashed, crossed', () => {
    const { container } = render(
      <MapPicture
        run={running({ markers: [markerOf('1'), markerOf('2', { now: false }), markerOf('3', { state: 'frames' }), markerOf('4', { moved: 0.3 })] })}
      />,
    )
    expect(container.querySelectorAll('.ring.mapped')).toHaveLength(2)
    expect(container.querySelectorAll('.ring.mapped .now')).toHaveLength(1)
    expect(container.querySelectorAll('.ring.doubtful')).toHaveLength(1)
    expect(container.querySelectorAll('.ring.moved path')).toHaveLength(1)
    expect(container.querySelector('.eye')).toBeTruthy()
    cleanup()
    render(<MapPicture run={running({ markers: [], scanner: null })} />)
    expect(screen.getByText(/at least four at a time/)).toBeTruthy()
  })

  test('a setup without a map asks whether markers travelled, when another has one', async () => {
    const sent = server((s) => (s.path.endsWith('/mapping') ? { status: 202, body: running() } : undefined))
    show(<MarkCard go={() => undefined} />, jobOf([mapped()], [step('map-markers', { id: uuid(532) })]), 'Mark')
    await screen.findByText(/Did the markers travel with it/)
    expect(button('Record the markers')).toHaveProperty('disabled', true)
    await doing(() => fireEvent.click(screen.getByRole('radio', { name: /Yes, they stick on it/ })))
    await waitFor(() => expect(button('Go on from that map')).toHaveProperty('disabled', false))
    await doing(() => fireEvent.click(button('Go on from that map')))
    await waitFor(() =>
      expect(sent.find((s) => s.path.endsWith('/mapping'))?.body).toMatchObject({ scanner: uuid(60), setup: uuid(12), known: uuid(40), target: 0.02 }),
    )
  })

  test('known markers are listed with their uncertainty; maps of two setups can be brought together', async () => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('join-markers', { state: 'queued' }) } : undefined))
    const made = step('map-markers', {
      id: uuid(532),
      evidence: { quantities: [{ id: 'markers', name: 'markers', value: 3, unit: '' }], warnings: ['Marker 2 moved by 0.300 ± 0.004 mm.'] },
    })
    show(<MarkCard go={() => undefined} />, jobOf([mapped(), mapped(1, 12)], [made]), 'Mark')
    await screen.findByText(/3 markers of Setup 2 are known/)
    expect((await screen.findAllByText('0.0020')).length).toBe(3)
    expect(screen.getByText(/Marker 2 moved by/)).toBeTruthy()
    await doing(() => fireEvent.click(button(/Bring together with Setup 1/)))
    await waitFor(() =>
      expect(sent.find((s) => s.path.endsWith('/steps'))?.body).toMatchObject({
        operation: 'join-markers',
        inputs: { anchor: [uuid(40)], loose: [uuid(41)], passes: [] },
      }),
    )
  })

  test.each([
    { before: [], moved: { passes: [uuid(50)] } },
    { before: [step('adjust')], moved: { passes: [uuid(50), uuid(51)], maps: [uuid(41)] } },
  ])('what stands in the axes of a map goes along when it is laid on the plan ($moved)', async ({ before, moved }) => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('join-markers', { state: 'queued' }) } : undefined))
    const passes = [item('pass', 50, { setup: uuid(11) }), item('pass', 51, { setup: uuid(12) })]
    show(
      <MarkCard go={() => undefined} />,
      jobOf([planned(), mapped(), mapped(1, 12), ...passes], [step('plan-markers', { id: uuid(531), params: {} }), ...before]),
      'Mark',
    )
    await doing(() => fireEvent.click(screen.getByText('Check')))
    await doing(() => fireEvent.click(button('Compare')))
    await waitFor(() => expect(sent.find((s) => s.path.endsWith('/steps'))?.body.inputs).toEqual({ anchor: [uuid(30)], loose: [uuid(40)], ...moved }))
  })

  test('the placement is compared with the plan', async () => {
    const sent = server((s) => (s.path.endsWith('/steps') ? { status: 202, body: step('join-markers', { state: 'queued' }) } : undefined))
    const joined = step('join-markers', {
      inputs: { anchor: [uuid(30)], loose: [uuid(40)] },
      evidence: { quantities: [{ id: 'beside-its-place', name: 'beside its place', value: 1.24, unit: 'mm', of: '10' }], warnings: [] },
    })
    show(<MarkCard go={() => undefined} />, jobOf([planned(), mapped()], [step('plan-markers', { id: uuid(531), params: {} }), joined]), 'Mark')
    await doing(() => fireEvent.click(screen.getByText('Check')))
    expect(document.querySelector('[data-beside="10"]')?.textContent).toBe('1.2')
    await waitFor(() => expect(button('Where to add one')).toHaveProperty('disabled', false))
    await doing(() => fireEvent.click(button('Where to add one')))
    await waitFor(() => expect(sent.find((s) => s.path.endsWith('/steps'))?.body.params).toMatchObject({ propose: true }))
    expect(sent.find((s) => s.path.endsWith('/steps'))?.body.params.fixed).toHaveLength(3)
  })
})
