/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals'
import { act, cleanup, fireEvent, screen, waitFor } from '@testing-library/react'
import type { NamedQuantity, Stage } from '@oak-gauge/contract'
import { AlignCard } from '../src/stages/align/AlignCard.tsx'
import { BriefCard } from '../src/stages/brief/BriefCard.tsx'
import { CaptureCard } from '../src/stages/capture/CaptureCard.tsx'
import { CleanCard } from '../src/stages/clean/CleanCard.tsx'
import { DatumCard } from '../src/stages/datum/DatumCard.tsx'
import { DeliverCard } from '../src/stages/deliver/DeliverCard.tsx'
import { InspectCard } from '../src/stages/inspect/InspectCard.tsx'
import { MergeCard } from '../src/stages/merge/MergeCard.tsx'
import { store } from '../src/store.ts'
import { view } from '../src/view/viewSlice.ts'
import { adjusted, button, click, doing, fakeServer, item, jobOf, passes, q, show, step, type, uuid } from './help.tsx'

afterEach(cleanup)
const go = jest.fn<(s: Stage) => void>()
describe('an empty stage explains itself and leads on', () => {
  test.each([
    ['Clean', CleanCard, 'Go to Capture', 'Capture'],
    ['Align', AlignCard, 'Go to Capture', 'Capture'],
    ['Merge', MergeCard, 'Go to Capture', 'Capture'],
    ['Datum', DatumCard, 'Go to Merge', 'Merge'],
    ['Inspect', InspectCard, 'Go to Merge', 'Merge'],
    ['Deliver', DeliverCard, 'Go to Merge', 'Merge'],
  ] as const)('%s', async (stage, Card, label, leads) => {
    fakeServer()
    go.mockClear()
    show(<Card go={go} />, jobOf([]), stage)
    expect(screen.getByRole('heading', { level: 2 }).textContent).toMatch(/\?$/)
    await click(label)
    expect(go).toHaveBeenCalledWith(leads)
  })
})

describe('Brief', () => {
  test('what was changed is kept before going on; a tolerance as people type it', async () => {
    const sent = fakeServer(() => ({ body: jobOf([]) }))
    go.mockClear()
    show(<BriefCard go={go} />)
    expect(button('Go on to Ready')).toBeTruthy()
    type('Tolerance', '0,4')
    fireEvent.change(screen.getByLabelText('Belongs to'), { target: { value: 'Winch' } })
    await click('Keep and go on')
    await waitFor(() => expect(go).toHaveBeenCalledWith('Ready'))
    expect(sent[0]).toMatchObject({ method: 'PATCH', path: `jobs/${uuid(1)}`, body: { tolerance: 0.4, part: 'Winch', title: 'Bracket' } })
  })
  test('refused, it stays and says why', async () => {
    fakeServer(() => ({ status: 400, body: { code: 'bad-request', detail: 'A job needs a name.', where: 'title', remedy: 'Give it one.' } }))
    go.mockClear()
    show(<BriefCard go={go} />)
    fireEvent.change(screen.getByLabelText('Notes'), { target: { value: 'x' } })
    await click('Keep and go on')
    expect((await screen.findByRole('alert')).textContent).toBe('A job needs a name.titleGive it one.')
    expect(go).not.toHaveBeenCalled()
  })
})

describe('Capture', () => {
  test('a file without unit asks for it; the answer runs the step again', async () => {
    const sent = fakeServer()
    const asked = step('import', {
      state: 'failed',
      file: 'part.stl',
      problem: { code: 'unit-unknown', detail: 'Four units long.', where: 'part.stl', remedy: 'Say the unit.' },
    })
    show(<CaptureCard go={go} />, jobOf([], [asked]))
    await click('in')
    expect(sent.find((s) => s.method !== 'GET')).toMatchObject({
      method: 'POST',
      path: `jobs/${uuid(1)}/steps/${asked.id}/rerun`,
      body: { params: { unit: 'in' } },
    })
    await click('Leave it out')
    expect(sent.at(-1)).toMatchObject({ method: 'DELETE', path: `jobs/${uuid(1)}/steps/${asked.id}` })
  })
  test('another refused file only closes; passes change their setup and are set aside', async () => {
    const sent = fakeServer()
    const bad = step('import', { state: 'failed', problem: { code: 'truncated', detail: 'It ends early.', where: 'a.stl', remedy: 'Copy it again.' } })
    show(<CaptureCard go={go} />, jobOf(passes, [bad]))
    expect(screen.queryByRole('button', { name: 'in' })).toBeNull()
    await doing(() => void fireEvent.change(screen.getByLabelText('Setup of pass 2'), { target: { value: uuid(12) } }))
    expect(sent.find((s) => s.method !== 'GET')).toMatchObject({ method: 'PATCH', path: `jobs/${uuid(1)}/slots/${uuid(2)}`, body: { setup: uuid(12) } })
    await click('Set pass 3 aside')
    expect(sent.at(-1)?.body).toEqual({ operation: 'set-aside', inputs: { items: [uuid(3)] } })
  })
})

describe('Clean', () => {
  test('strays: looked for first as a preview, marked, then taken away', async () => {
    const preview = step('strays', { preview: true, evidence: { quantities: [q('points-gone', 37, '')], warnings: [] } })
    const sent = fakeServer((s) => (s.path.endsWith('/steps') ? { body: preview } : undefined))
    const state = jobOf(passes)
    const { become } = show(<CleanCard go={go} />, state, 'Clean')
    fireEvent.click(screen.getByText('Strays'))
    await click('Look first')
    expect(sent[0].body).toEqual({ operation: 'strays', inputs: { passes: [1, 2, 3].map(uuid) }, params: { sigmas: 4 }, preview: true })
    become({ ...state, steps: [preview] })
    expect(await screen.findByText('Hatched points would go.')).toBeTruthy()
    expect(store.getState().view.going).toEqual({ kind: 'step', step: preview.id })
    expect(document.querySelector('[data-quantity="points-gone"]')?.textContent).toBe('37 ')
    // another setting: what was found does not count any more
    type('Stray beyond', '3')
    expect(screen.queryByText('Hatched points would go.')).toBeNull()
    await click('Take away')
    expect(sent.at(-1)?.body).toMatchObject({ operation: 'strays', params: { sigmas: 3 } })
    expect(sent.at(-1)?.body.preview).toBeUndefined()
  })
  test('only the passes of the chosen setup are shown and touched', async () => {
    const sent = fakeServer(() => ({ body: step('islands') }))
    show(<CleanCard go={go} />, jobOf(passes), 'Clean')
    // the table is trimmed setup by setup
    expect(store.getState().view.hidden).toMatchObject({ [uuid(1)]: false, [uuid(2)]: false, [uuid(3)]: true })
    expect(store.getState().view.picking).toEqual({ kind: 'places', most: 3 })
    fireEvent.click(screen.getByText('Islands'))
    expect(store.getState().view.hidden[uuid(3)]).toBe(false)
    await doing(() => void fireEvent.click(screen.getByLabelText('Keep only the largest group')))
    await click('Take away')
    expect(sent.at(-1)?.body.params).toEqual({ smallest: 0.02, largestOnly: true })
  })
  test('a loop is looked at before it takes anything', async () => {
    const preview = step('lasso', { preview: true, evidence: { quantities: [q('points-gone', 5, '')], warnings: [] } })
    const sent = fakeServer((s) => (s.path.endsWith('/steps') ? { body: preview } : undefined))
    const state = jobOf(passes)
    const { become } = show(<CleanCard go={go} />, state, 'Clean')
    fireEvent.click(screen.getByText('By hand'))
    expect(store.getState().view.picking).toEqual({ kind: 'lasso', mode: 'add' })
    expect((button('Take away') as HTMLButtonElement).disabled).toBe(true)
    act(() => void store.dispatch(view.looped({ view: Array(16).fill(0), loop: [0, 0, 1, 0, 0, 1], depth: [0, 0, 1], mode: 'add' })))
    await waitFor(() => expect(sent.some((s) => s.body?.preview)).toBe(true))
    become({ ...state, steps: [preview] })
    await waitFor(() => expect((button('Take away') as HTMLButtonElement).disabled).toBe(false))
    await doing(() => void fireEvent.click(screen.getByLabelText('Front only')))
    await waitFor(() => expect(sent.at(-1)?.body?.params.loops[0].frontDepth).toBe(4))
  })
})

describe('Merge', () => {
  test('the cell follows the points, and is not let below the error of the alignment', async () => {
    const sent = fakeServer(() => ({ body: step('merge') }))
    show(<MergeCard go={go} />, jobOf(passes, [adjusted(0.02)]), 'Merge')
    expect(screen.getByLabelText<HTMLInputElement>(/Cell size/).value).toBe('0.30')
    expect(screen.getByText(/points lie 0.25 mm apart; never finer than the alignment error of 0.02/)).toBeTruthy()
    type('Cell size', '.01')
    expect((button('Merge 3 passes') as HTMLButtonElement).disabled).toBe(true)
    expect(screen.getByText(/finer than the passes agree/)).toBeTruthy()
    fireEvent.click(screen.getByRole('button', { name: 'changed' }))
    fireEvent.click(screen.getByText('Small gaps'))
    await doing(() => void fireEvent.click(screen.getByRole('checkbox', { name: /Crisp edges/ })))
    await click('Merge 3 passes')
    expect(sent[0].body).toEqual({
      operation: 'merge',
      inputs: { passes: [1, 2, 3].map(uuid) },
      params: { cell: 0.3, closing: 'small', gapSize: 5, crisp: false },
    })
  })
  test('after it: numbers, gaps and fewer triangles of the merged mesh', async () => {
    const merged = step('merge', {
      outputs: { mesh: [uuid(7)] },
      params: { cell: 0.4 },
      evidence: { quantities: [q('triangles', 2_000_000, ''), q('crisp-edges', 812.4)], warnings: ['Look at it.'] },
    })
    const sent = fakeServer(() => ({ body: step('reduce') }))
    show(<MergeCard go={go} />, jobOf([...passes, item('mesh', 7)], [merged]), 'Merge')
    expect(document.querySelector('[data-quantity="triangles"]')?.textContent).toBe('2\u202f000\u202f000 ')
    expect(screen.getByText('Look at it.')).toBeTruthy()
    expect(screen.getByLabelText<HTMLInputElement>(/Cell size/, { selector: 'input' }).value).toBe('0.40')
    await click('Close gaps')
    await click('Reduce')
    fireEvent.click(screen.getByText('By count'))
    await click('Reduce')
    expect(sent.map((s) => [s.body.operation, s.body.params])).toEqual([
      ['close-gaps', { size: 5 }],
      ['reduce', { deviation: 0.02 }],
      ['reduce', { triangles: 200_000 }],
    ])
    expect(sent[0].body.inputs).toEqual({ mesh: [uuid(7)] })
  })
})

describe('a mesh that was brought in', () => {
  test('has nothing to merge; its gaps can be closed and its triangles reduced', async () => {
    const sent = fakeServer(() => ({ body: step('close-gaps') }))
    show(<MergeCard go={go} />, jobOf([item('mesh', 7)]), 'Merge')
    expect(screen.getByText(/nothing to merge/)).toBeTruthy()
    type('Close gaps up to', '12')
    await click('Close gaps')
    expect(sent[0].body).toEqual({ operation: 'close-gaps', inputs: { mesh: [uuid(7)] }, params: { size: 12 } })
    await click('Go on to Datum')
    expect(go).toHaveBeenLastCalledWith('Datum')
  })
})

describe('Datum', () => {
  test('faces are chosen on the stage and go along; by shape the first time only', async () => {
    const bore = { kind: 'cylinder', area: 10, point: [0, 0, 0], axis: [0, 0, 1], radius: 5, hollow: true }
    const plane = { kind: 'plane', area: 80, point: [0, 0, 0], normal: [0, 0, 1] }
    const sent = fakeServer((s) => (s.path.endsWith('/surfaces') ? { body: [plane, plane, plane, plane, plane, bore] } : { body: step('best-fit') }))
    const tray = [item('mesh', 7), item('nominal', 8, { faces: 24 })]
    show(<DatumCard go={go} />, jobOf(tray), 'Datum')
    expect(store.getState().view.picking).toEqual({ kind: 'faces', slot: uuid(8) })
    await click('Fit on all faces')
    act(() => [3, 5].forEach((f) => store.dispatch(view.face(f))))
    expect(await screen.findByText('bore ⌀ 10 mm')).toBeTruthy()
    await click('Fit on 2 faces')
    expect(sent.filter((s) => s.method === 'POST').map((s) => s.body.params)).toEqual([
      { faces: [], byShape: true },
      { faces: [3, 5], byShape: true },
    ])
    act(() => void store.dispatch(view.faces([])))
    cleanup()
    show(
      <DatumCard go={go} />,
      jobOf(tray, [step('best-fit', { evidence: { quantities: [q('best-fit-rms', 0.02)], warnings: ['Not held: turn about z.'] } })]),
      'Datum',
    )
    expect(screen.getByText('Not held: turn about z.')).toBeTruthy()
    await click('Fit on all faces')
    expect(sent.at(-1)?.body.params.byShape).toBe(false)
  })
  test('without a nominal one may deliver all the same', async () => {
    fakeServer()
    show(<DatumCard go={go} />, jobOf([item('mesh', 7)]), 'Datum')
    await click('Deliver without')
    expect(go).toHaveBeenLastCalledWith('Deliver')
  })
})

describe('Inspect', () => {
  test('limits begin at half the tolerance; other limits want another comparison', async () => {
    const sent = fakeServer(() => ({ body: step('deviation') }))
    const tray = [item('mesh', 7), item('nominal', 8)]
    show(<InspectCard go={go} />, jobOf(tray, [], { tolerance: 0.5 }), 'Inspect')
    await click('Compare')
    expect(sent[0].body).toEqual({ operation: 'deviation', inputs: { measured: [uuid(7)], nominal: [uuid(8)] }, params: { limit: 0.25, scale: 1 } })
    expect(screen.getByText(/not been laid on its nominal/)).toBeTruthy()
  })
  test('a flag is placed by a click, under the name that was typed', async () => {
    const sent = fakeServer(() => ({ body: step('flag') }))
    const compared = step('deviation', {
      params: { limit: 0.1, scale: 1 },
      outputs: { field: [uuid(9)] },
      evidence: { quantities: [{ ...q('within', 82.74, '%'), at: 0.1, name: 'within 0.1 mm' }], warnings: [] },
    })
    const tray = [item('mesh', 7), item('nominal', 8), item('deviation', 9, { on: uuid(7) })]
    show(<InspectCard go={go} />, jobOf(tray, [compared]), 'Inspect')
    expect(store.getState().view).toMatchObject({ map: uuid(9), limit: 0.1, scale: 1 })
    expect(document.querySelector('[data-quantity="within"]')?.textContent).toBe('82.7 %')
    await click('Place a flag')
    // the mesh came in as a file: how it lies on the nominal, and how its scanner was, is to be said
    expect(document.querySelector('[data-not-known]')).not.toBeNull()
    type('U of the scanner', '0.02')
    type('U of the placing on the nominal', '0.01')
    expect(document.querySelector('[data-not-known]')).toBeNull()
    fireEvent.change(screen.getByLabelText('Name of the spot'), { target: { value: 'foot' } })
    await doing(() => void store.dispatch(view.placed({ at: [1, 2, 3], slot: uuid(7), face: null })))
    expect(sent[0].body).toEqual({
      operation: 'flag',
      inputs: { field: [uuid(9)], on: [uuid(7)], nominal: [uuid(8)] },
      params: { at: [1, 2, 3], label: 'foot', limit: 0.1, stated: { scanner: 0.02, placing: 0.01 } },
    })
    expect(store.getState().view.picking.kind).toBe('none')
    type('Fine inside', '0.2')
    await click('Compare with these limits')
    expect(sent.at(-1)?.body.params).toEqual({ limit: 0.2, scale: 1 })
  })
  test('what a flag is uncertain by, the largest part first; what is not known says so', () => {
    fakeServer()
    const deviation = {
      ...q('deviation', 0.1234, 'mm', 'foot'),
      u: 0.005,
      parts: [
        { source: 'surface', u: 0.003 },
        { source: 'scanner', u: 0.004, stated: true },
      ],
    }
    const flag = step('flag', {
      params: { at: [0, 0, 0], label: 'foot' },
      evidence: { quantities: [deviation as NamedQuantity, q('verdict', 'extra', '')], warnings: [] },
    })
    const tray = [item('mesh', 7), item('nominal', 8), item('deviation', 9, { on: uuid(7) })]
    const { unmount } = show(<InspectCard go={go} />, jobOf(tray, [step('deviation'), flag]), 'Inspect')
    const table = document.querySelector('[data-budget="1"]')
    expect(table?.querySelector('summary')?.textContent).toMatch(/Flag 1 foot: U = 0\.010 mm/)
    expect([...(table?.querySelectorAll('dt') ?? [])].map((d) => d.textContent)).toEqual(['the scanner, stated', 'the noise of the surface'])
    expect(table?.querySelector('[data-part="scanner"]')?.textContent).toBe('± 0.0080 mm')
    unmount()
    const open = step('flag', {
      evidence: { quantities: [{ ...deviation, u: 'unknown', parts: [{ source: 'scanner', u: 'unknown' }] }], warnings: [] },
    })
    show(<InspectCard go={go} />, jobOf(tray, [step('deviation'), open]), 'Inspect')
    expect(document.querySelector('[data-part="scanner"]')?.textContent?.trim()).toBe('not known')
  })
  test('leaving takes the colours off', () => {
    fakeServer()
    const tray = [item('mesh', 7), item('nominal', 8), item('deviation', 9, { on: uuid(7) })]
    const { unmount } = show(<InspectCard go={go} />, jobOf(tray, [step('deviation')]), 'Inspect')
    expect(store.getState().view.map).toBe(uuid(9))
    unmount()
    expect(store.getState().view.map).toBeNull()
  })
})

describe('Deliver', () => {
  test('the pre-flight line holds for this very mesh; after a change it is asked for anew', async () => {
    const sent = fakeServer((s) => (s.path.includes('file-size') ? { body: { bytes: 25_475_384 } } : { body: step('facts') }))
    const reduced = step('reduce', { outputs: { mesh: [uuid(7)] } })
    const facts = step('facts', {
      inputs: { mesh: [uuid(7)] },
      evidence: { quantities: [q('size-x', 160.02), q('size-y', 110.4), q('size-z', 60), q('open-edges', 0, ''), q('volume', 'open', '')], warnings: [] },
    })
    const mesh = item('mesh', 7, { count: 199_998, step: reduced.id })
    show(<DeliverCard go={go} />, jobOf([mesh], [reduced, facts]), 'Deliver')
    await waitFor(() => expect(document.querySelector('[data-preflight]')?.textContent).toContain('25.5 MB'))
    expect(document.querySelector('[data-preflight]')?.textContent).toBe('160.0 × 110.4 × 60.0 mm, 199\u202f998 triangles, 25.5 MB, closed, unit mm.')
    expect(screen.getByRole('link', { name: 'Save STL' }).getAttribute('href')).toBe(`/api/v1/items/${mesh.id}/file?format=stl`)
    fireEvent.click(screen.getByText('3MF'))
    expect(screen.getByRole('link', { name: 'Save 3MF' }).getAttribute('href')).toContain('format=3mf')
    cleanup()
    const again = step('reduce', { outputs: { mesh: [uuid(7)] } })
    show(<DeliverCard go={go} />, jobOf([{ ...mesh, step: again.id }], [reduced, facts, again]), 'Deliver')
    expect(document.querySelector('[data-preflight]')).toBeNull()
    await click('Look it over before it goes')
    expect(sent.at(-1)?.body).toEqual({ operation: 'facts', inputs: { mesh: [uuid(7)] } })
  })
})
