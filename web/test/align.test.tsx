/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals'
import { act, cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react'
import type { Stage } from '@oak-gauge/contract'
import { AlignCard } from '../src/stages/align/AlignCard.tsx'
import { store } from '../src/store.ts'
import { view } from '../src/view/viewSlice.ts'
import { adjusted, button, click, doing, fakeServer, item, jobOf, passes, q, show, step, uuid } from './help.tsx'

afterEach(cleanup)
const go = jest.fn<(s: Stage) => void>()

describe('Align', () => {
  test('two setups: first by shape, the last one loose', async () => {
    const sent = fakeServer(() => ({ body: step('align-shape') }))
    show(<AlignCard go={go} />, jobOf(passes), 'Align')
    await click('Align by shape')
    expect(sent[0].body).toEqual({ operation: 'align-shape', inputs: { anchor: [uuid(1), uuid(2)], loose: [uuid(3)] } })
  })
  test('refused because the job has gone on: said, and asked for once more where it stands now', async () => {
    const gone = { code: 'moved-on', detail: 'The job has gone on meanwhile: “Strays” came in between.', where: '', remedy: 'Ask again.' }
    let first = true
    const sent = fakeServer((s) => {
      if (s.method !== 'POST') return undefined
      const answer = first ? { status: 409, body: gone } : { status: 202, body: step('align-shape') }
      first = false
      return answer
    })
    show(<AlignCard go={go} />, jobOf(passes), 'Align')
    await click('Align by shape')
    expect(await screen.findByText(/“Strays” came in between/)).toBeTruthy()
    await click('Go on from there')
    const asked = sent.filter((s) => s.method === 'POST')
    expect(asked).toHaveLength(2)
    expect(asked[1].body).toEqual(asked[0].body)
    expect(asked[1].asked.request).not.toBe(asked[0].asked.request)
    expect(screen.queryByText(/came in between/)).toBeNull()
  })
  test('by pairs: three are needed; the fit shows while they are picked, and a line of places is told', async () => {
    const sent = fakeServer(() => ({ body: step('align-pairs') }))
    show(<AlignCard go={go} />, jobOf(passes), 'Align')
    await click('Pick pairs instead')
    const pair = (x: number, y: number, i: number) => {
      store.dispatch(view.paired({ place: { at: [x, y, 0], slot: uuid(1), face: null }, side: 'anchor' }))
      store.dispatch(view.paired({ place: { at: [x + 5, y, y && 0.1 * i], slot: uuid(3), face: null }, side: 'loose' }))
    }
    act(() => [0, 10].forEach((x, i) => pair(x, 0, i)))
    expect((button(/Align by/) as HTMLButtonElement).disabled).toBe(true)
    act(() => pair(20, 0, 2))
    expect(screen.getByText(/lie on one line/)).toBeTruthy()
    await click('Drop pair 3')
    act(() => pair(0, 20, 2))
    expect(screen.queryByText(/lie on one line/)).toBeNull()
    const rms = Number(document.querySelector('[data-quantity="pairs-rms"]')?.textContent?.replace(' mm', ''))
    expect(rms).toBeLessThan(0.1)
    await click('Align by 3 pairs')
    await waitFor(() => expect(sent).toHaveLength(2))
    expect(sent[0].body.params.pairs).toHaveLength(3)
    expect(sent[1].body.operation).toBe('align-fine')
  })
  test('all passes: one line each, and the gaps as a map', async () => {
    fakeServer()
    const done = adjusted(0.0046)
    done.outputs = { gaps: [uuid(9)], places: [uuid(8)] }
    show(
      <AlignCard go={go} />,
      jobOf([...passes.slice(0, 2), item('map', 8, { kind: 'points' }), item('map', 9, { on: uuid(8), step: done.id })], [done]),
      'Align',
    )
    const row = document.querySelector('[data-pass="pass 1"]') as HTMLElement
    expect(within(row).getByText('0.0030')).toBeTruthy()
    await doing(() => void fireEvent.click(screen.getByLabelText('Show the gaps as a map')))
    expect(store.getState().view.map).toBe(uuid(9))
    await click('Go on to Merge')
    expect(go).toHaveBeenLastCalledWith('Merge')
  })
  test('one pass alone has nothing to align', async () => {
    fakeServer()
    show(<AlignCard go={go} />, jobOf(passes.slice(0, 1)), 'Align')
    await click('Go on to Merge')
    expect(go).toHaveBeenLastCalledWith('Merge')
  })

  const maps = [item('marker-map', 5, { setup: uuid(11), kind: 'markers', count: 9 }), item('marker-map', 6, { setup: uuid(12), kind: 'markers', count: 7 })]
  test('where both setups have markers these are proposed; the passes of the loose setup go along', async () => {
    const sent = fakeServer(() => ({ body: step('join-markers') }))
    show(<AlignCard go={go} />, jobOf([...passes, ...maps]), 'Align')
    expect(screen.getByText(/^7 markers of .*, 9 of /)).toBeTruthy()
    await click('Align by markers')
    expect(sent[0].body).toEqual({ operation: 'join-markers', inputs: { anchor: [uuid(5)], loose: [uuid(6)], passes: [uuid(3)] } })
  })
  test('an adjustment takes the markers along, and shows how far they lie apart', async () => {
    const sent = fakeServer(() => ({ body: step('adjust') }))
    const joined = step('join-markers', { inputs: { anchor: [uuid(5)], loose: [uuid(6)] } })
    const done = adjusted(0.02)
    done.evidence?.quantities.splice(2, 0, q('gap-between-passes-largest', 0.01), q('markers-in-common', 7, ''), q('markers-rms', 0.0123))
    show(<AlignCard go={go} />, jobOf([...passes, ...maps], [joined, done]), 'Align')
    expect(document.querySelector('.card [data-quantity="markers-rms"]')?.textContent).toBe('0.012 mm')
    await click('Adjust once more')
    expect(sent[0].body).toEqual({ operation: 'adjust', inputs: { passes: [1, 2, 3].map(uuid), maps: [uuid(5), uuid(6)] } })
  })
  test('by shape, the map of the loose setup moves with its passes', async () => {
    const sent = fakeServer(() => ({ body: step('align-shape') }))
    show(<AlignCard go={go} />, jobOf([...passes, ...maps]), 'Align')
    fireEvent.click(screen.getByText('Shape'))
    await click('Align by shape')
    expect(sent[0].body.inputs).toEqual({ anchor: [uuid(1), uuid(2)], loose: [uuid(3)], maps: [uuid(6)] })
  })
  test('markers of one setup only hold nothing, but move with it', async () => {
    const sent = fakeServer(() => ({ body: step('adjust') }))
    show(<AlignCard go={go} />, jobOf([...passes, maps[0]], [step('align-shape')]), 'Align')
    expect(screen.queryByText('Markers')).toBeNull()
    expect(screen.queryByText(/hold them too/)).toBeNull()
    await click(/^Adjust/)
    expect(sent[0].body).toEqual({ operation: 'adjust', inputs: { passes: [1, 2, 3].map(uuid), maps: [uuid(5)] } })
  })
})
