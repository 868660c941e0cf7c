/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { listen } from '../src/live/live.ts'
import { progressSlice } from '../src/progress.ts'
import { api, isAsking, problemOf } from '../src/api.ts'
import { store } from '../src/store.ts'
import { shownByDefault } from '../src/job/useJob.ts'
import { spacingOf, usualCell } from '../src/stages/merge/cell.ts'
import { view, viewSlice, type Place, type ViewState } from '../src/view/viewSlice.ts'
import { item } from './help.tsx'

const place = (x: number): Place => ({ at: [x, 0, 0], slot: 's', face: null })
const after = (...actions: Parameters<typeof viewSlice.reducer>[1][]): ViewState =>
  actions.reduce<ViewState | undefined>((s, a) => viewSlice.reducer(s, a), undefined) as ViewState

describe('what is picked on the stage', () => {
  test('of places the last ones asked for are kept; without asking none', () => {
    expect(after(view.placed(place(1))).places).toEqual([])
    const s = after(view.pick({ kind: 'places', most: 3 }), ...[1, 2, 3, 4].map((x) => view.placed(place(x))))
    expect(s.places.map((p) => p.at[0])).toEqual([2, 3, 4])
    expect(after(view.pick({ kind: 'flag' }), view.placed(place(1)), view.placed(place(2))).places).toEqual([place(2)])
  })
  test('pairs fill up in any order, each side for itself', () => {
    const s = after(
      view.paired({ place: place(1), side: 'anchor' }),
      view.paired({ place: place(2), side: 'anchor' }),
      view.paired({ place: place(11), side: 'loose' }),
      view.paired({ place: place(12), side: 'loose' }),
      view.paired({ place: place(13), side: 'loose' }),
    )
    expect(s.pairs.map((p) => [p.anchor?.at[0], p.loose?.at[0]])).toEqual([
      [1, 11],
      [2, 12],
      [undefined, 13],
    ])
  })
  test('a face is chosen by a click and let go by another', () => {
    expect(after(view.face(7), view.face(2), view.face(7), view.face(9)).faces).toEqual([2, 9])
  })
  test('leaving a stage leaves its selections, not what is hidden or coloured', () => {
    const s = after(
      view.hide({ slots: ['a'], hidden: true }),
      view.colours({ map: 'm', limit: 0.3 }),
      view.pick({ kind: 'lasso', mode: 'add' }),
      view.looped({ view: [], loop: [], depth: [0, 0, 1], mode: 'add' }),
      view.going({ kind: 'step', step: 'x' }),
      view.cleared(),
    )
    expect([s.picking.kind, s.loops, s.going.kind]).toEqual(['none', [], 'none'])
    expect([s.hidden, s.map, s.limit]).toEqual([{ a: true }, 'm', 0.3])
    expect(after(view.hide({ slots: ['a', 'b'], hidden: true }), view.unhide(['a'])).hidden).toEqual({ b: true })
  })
  test('the same standard view twice is asked twice', () => {
    expect(after(view.lookFrom(3), view.lookFrom(3)).standardView).toEqual({ view: 3, count: 2 })
  })
})

describe('what a stage shows by itself', () => {
  const tray = [item('pass', 1), item('mesh', 2), item('nominal', 3), item('deviation', 4)]
  test.each([
    ['Clean', ['pass']],
    ['Align', ['pass']],
    ['Merge', ['mesh']],
    ['Datum', ['mesh', 'nominal']],
    ['Inspect', ['mesh']],
    ['Deliver', ['mesh']],
  ] as const)('%s', (stage, roles) => {
    expect(tray.filter((i) => shownByDefault(i, stage, tray)).map((i) => i.role)).toEqual(roles)
  })
  test('before there is a mesh the passes stay; a nominal alone is shown', () => {
    expect(shownByDefault(tray[0], 'Merge', [tray[0]])).toBe(true)
    expect(shownByDefault(tray[2], 'Capture', [tray[2]])).toBe(true)
    expect(shownByDefault(tray[1], 'Capture', [tray[1]])).toBe(true)
  })
})

describe('the cell to begin with', () => {
  test.each([
    [0.25, 0, 0.3],
    [0.23, 0.0046, 0.3],
    [1, 0.01, 1.1],
    [0.05, 0, 0.055],
    [0.011, 0, 0.013],
    [4, 0, 4.5],
    [0.25, 0.62, 0.65],
    [0, 0, 0.3],
  ])('points %p mm apart that agree to %p mm: %p mm', (spacing, error, cell) => {
    expect(usualCell(spacing, error)).toBe(cell)
  })
  test('the middle spacing of the passes; those that do not say are left out', () => {
    expect(spacingOf([{ spacing: 0.4 }, { spacing: null }, { spacing: 0.2 }, { spacing: 0.9 }])).toBe(0.4)
    expect(spacingOf([])).toBe(0)
  })
})

describe('what a failed request says', () => {
  test('the server’s own words, or that it does not answer', () => {
    const problem = { code: 'busy', detail: 'A step is running.', where: '', remedy: 'Wait.' }
    expect(problemOf({ status: 409, data: problem })).toEqual(problem)
    expect(problemOf({ status: 'FETCH_ERROR', error: 'x' })?.code).toBe('no-answer')
    expect(problemOf(undefined)).toBeNull()
  })
})

describe('the line from the server', () => {
  let source: { onopen(): void; onerror(): void; onmessage(m: { data: string }): void }
  const real = globalThis.EventSource
  beforeEach(() => {
    globalThis.EventSource = class {
      constructor() {
        source = this as never
      }
    } as never
  })
  afterEach(() => void (globalThis.EventSource = real))
  test('progress goes to the step, changes mark answers as stale, a line that comes back asks for everything anew', () => {
    const said: { type: string; payload: unknown }[] = []
    listen({ dispatch: jest.fn((a: unknown) => said.push(a as never)) })
    source.onopen()
    source.onmessage({ data: JSON.stringify({ type: 'progress', job: 'j', step: 's', progress: 0.5, phase: 'p', remaining: 900 }) })
    source.onmessage({ data: JSON.stringify({ type: 'changed', job: 'j' }) })
    expect(said.map((a) => a.type)).toEqual(['progress/connection', 'progress/progressed', 'api/invalidateTags'])
    expect(said[2].payload).toEqual(['Jobs', { type: 'Job', id: 'j' }])
    said.length = 0
    source.onerror()
    source.onopen()
    expect(said.map((a) => a.payload)).toEqual([false, true, ['Jobs', 'Job', 'Scanners', 'Scanner']])
  })
  test('how far a step is', () => {
    const s = progressSlice.reducer(undefined, progressSlice.actions.progressed({ step: 'a', progress: 0.25, phase: 'normals', remaining: null }))
    expect(s.steps['a']).toEqual({ progress: 0.25, phase: 'normals', remaining: null })
  })
})

describe('a change that was sent', () => {
  test('is under way until the ledger was fetched after its answer: a fetch of before does not end it', async () => {
    const gates: Record<string, ((body: unknown) => void)[]> = { GET: [], POST: [] }
    globalThis.fetch = jest.fn((input: unknown) => {
      const { method } = input as Request
      return new Promise<Response>((resolve) =>
        gates[method].push((body) => resolve(new Response(JSON.stringify(body), { headers: { 'content-type': 'application/json' } }))),
      )
    })
    const settle = () => new Promise((r) => setTimeout(r, 5))
    const asking = () => isAsking('j')(store.getState())
    // two fetches may fall into one millisecond: here all do
    const clock = jest.spyOn(Date, 'now').mockReturnValue(Date.now())
    const open = store.dispatch(api.endpoints.job.initiate('j'))
    await settle()
    gates['GET'].shift()?.({ steps: [] })
    await open
    expect(asking()).toBe(false)
    // a fetch of before is on its way when the button is pressed
    void store.dispatch(api.endpoints.job.initiate('j', { forceRefetch: true }))
    await settle()
    const sent = store.dispatch(api.endpoints.runStep.initiate({ id: 'j', request: { operation: 'strays', inputs: {} } }))
    expect(asking()).toBe(true)
    await settle()
    gates['POST'].shift()?.({ id: 's' })
    await sent
    await settle()
    expect(asking()).toBe(true)
    gates['GET'].shift()?.({ steps: [] })
    await settle()
    expect(asking()).toBe(true)
    // the one that was asked for after the answer
    expect(gates['GET']).toHaveLength(1)
    gates['GET'].shift()?.({ steps: [{ id: 's' }] })
    await settle()
    expect(asking()).toBe(false)
    expect(isAsking('another')(store.getState())).toBe(false)
    clock.mockRestore()
    open.unsubscribe()
  })
  test('is heard of by the page before anything else can be pressed, however long the next picture takes', async () => {
    globalThis.fetch = jest.fn(() => new Promise<Response>(() => undefined))
    const press = () => void store.dispatch(api.endpoints.runStep.initiate({ id: 'q', request: { operation: 'strays', inputs: {} } }))
    // the first of all makes itself heard by other means
    press()
    await new Promise((r) => setTimeout(r, 150))
    let heard = 0
    const quiet = store.subscribe(() => heard++)
    press()
    await Promise.resolve()
    expect(heard).toBeGreaterThan(0)
    quiet()
    store.dispatch(api.util.resetApiState())
  })
  test('says behind which step the page saw it asked for; what was taken on counts at once, what was refused is looked at again', async () => {
    const asked: { path: string; body: { after?: string | null; request?: string } }[] = []
    let status = 202
    let looks = 0
    globalThis.fetch = jest.fn(async (input: unknown) => {
      const r = input as Request
      const text = await r.text()
      if (r.method === 'GET') looks++
      else asked.push({ path: new URL(r.url).pathname, body: JSON.parse(text) as { after?: string | null; request?: string } })
      const made = { id: `s${asked.length}`, state: 'queued', preview: false }
      const body = r.method === 'GET' ? { head: 'h', steps: [{ id: 'h', state: 'done', preview: false }] } : made
      return new Response(JSON.stringify(body), { status: r.method === 'GET' ? 200 : status, headers: { 'content-type': 'application/json' } })
    })
    const open = store.dispatch(api.endpoints.job.initiate('w'))
    await open
    const run = () => store.dispatch(api.endpoints.runStep.initiate({ id: 'w', request: { operation: 'strays', inputs: {} } }))
    await Promise.all([run(), run()])
    // two on one ledger: the server takes one of them
    expect(asked.map((a) => a.body.after)).toEqual(['h', 'h'])
    expect(new Set(asked.map((a) => a.body.request)).size).toBe(2)
    await new Promise((r) => setTimeout(r, 20))
    asked.length = 0
    await run()
    await run()
    expect(asked.map((a) => a.body.after)).toEqual(['h', 's1'])
    await new Promise((r) => setTimeout(r, 20))
    const before = looks
    status = 409
    await store.dispatch(api.endpoints.moveHead.initiate({ id: 'w', step: null }))
    await store.dispatch(api.endpoints.rerunStep.initiate({ id: 'w', step: 'h', params: {} }))
    await new Promise((r) => setTimeout(r, 20))
    expect(asked.slice(2).map((a) => a.path)).toEqual(['/api/v1/jobs/w/head', '/api/v1/jobs/w/steps/h/rerun'])
    expect(looks).toBeGreaterThan(before)
    open.unsubscribe()
  })
  test('refused, it is over at once', async () => {
    globalThis.fetch = jest.fn(() => Promise.resolve(new Response('{"message":"no"}', { status: 409, headers: { 'content-type': 'application/json' } })))
    await store.dispatch(api.endpoints.runStep.initiate({ id: 'k', request: { operation: 'strays', inputs: {} } }))
    expect(isAsking('k')(store.getState())).toBe(false)
  })
})
