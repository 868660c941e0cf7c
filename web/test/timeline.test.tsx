/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { cleanup, fireEvent, screen, waitFor } from '@testing-library/react'
import { timelineOf, type Timeline } from '@oak-gauge/core/capture/timeline.ts'
import { UnderView } from '../src/job/Under.tsx'
import { FilesPart } from '../src/stages/capture/FilesPart.tsx'
import { TimeLine } from '../src/stages/capture/TimeLine.tsx'
import { store } from '../src/store.ts'
import { click, fakeServer, item, jobOf, show, step, uuid } from './help.tsx'

afterEach(cleanup)
beforeEach(() => {
  // as wide as 1000 px
  jest.spyOn(Element.prototype, 'getBoundingClientRect').mockReturnValue({ left: 100, width: 1000, top: 0, height: 60 } as DOMRect)
})

// 100 s, ten frames a second; from 40 s to 60 s its place is lost
const line: Timeline = timelineOf({
  times: Array.from({ length: 1001 }, (_, k) => k / 10),
  fates: Array.from({ length: 1001 }, (_, k) => (k >= 400 && k < 600 ? 2 : 0)),
  sigmas: Array.from({ length: 1001 }, () => 0.0123),
  known: Array.from({ length: 1001 }, (_, k) => 10 * k),
})
const told = () => document.querySelector('[data-told]')?.textContent
const field = (label: string) => screen.getByLabelText<HTMLInputElement>(label)
const slider = () => screen.getByRole('slider')
/** from and to, s */
function drag(from: number, to: number) {
  const on = slider()
  on.setPointerCapture = () => undefined
  const at = (s: number) => ({ clientX: 100 + 10 * s, pointerId: 1 })
  fireEvent(on, Object.assign(new MouseEvent('pointerdown', { bubbles: true, ...at(from) }), { pointerId: 1 }))
  fireEvent(on, Object.assign(new MouseEvent('pointermove', { bubbles: true, ...at(to) }), { pointerId: 1 }))
  fireEvent(on, Object.assign(new MouseEvent('pointerup', { bubbles: true, ...at(to) }), { pointerId: 1 }))
}

describe('the time line of a recording', () => {
  const shown = (without: [number, number][] = []) => {
    const changes: [number, number][][] = []
    show(<TimeLine line={line} slot="recording" without={without} change={(s) => changes.push(s)} />)
    return changes
  }
  test('says how it stood at its end, and at the cursor, where the stage shows what was known then', async () => {
    shown()
    expect(told()).toBe('100.00 s · steady · 10.0 frames/s · held within 0.012 mm')
    expect(store.getState().view.upTo).toBeNull()
    drag(50, 50)
    expect(told()).toBe('50.00 s · lost · 10.0 frames/s')
    // parts of half a second: what is known at the end of that
    expect(store.getState().view.upTo).toEqual({ slot: 'recording', known: 5040 })
    await click('To its end')
    expect(slider().getAttribute('aria-valuenow')).toBe('100')
    cleanup()
    expect(store.getState().view.upTo).toBeNull()
  })
  test('a span is dragged or typed, and left out; of what is left out a part is taken in again', async () => {
    const changes = shown([[80, 90]])
    drag(60, 40)
    const [from, to] = [field('from, s'), field('to, s')]
    expect([from.value, to.value]).toEqual(['40.00', '60.00'])
    fireEvent.change(from, { target: { value: '39,5' } })
    fireEvent.blur(from)
    fireEvent.change(to, { target: { value: 'soon' } })
    fireEvent.blur(to)
    await waitFor(() => expect([from.value, to.value]).toEqual(['39.50', '60.00']))
    await click('Leave it out')
    expect(changes).toEqual([
      [
        [39.5, 60],
        [80, 90],
      ],
    ])
    await waitFor(() => expect(screen.queryByText('Leave it out')).toBeNull())
    // a click on what is left out chooses it
    drag(85, 85)
    fireEvent.change(screen.getByLabelText('to, s'), { target: { value: '84' } })
    fireEvent.keyDown(screen.getByLabelText('to, s'), { key: 'Enter' })
    await waitFor(() => expect(field('to, s').value).toBe('84.00'))
    await click('Take it in again')
    expect(changes.at(-1)).toEqual([[84, 90]])
  })
  test('by keys: the cursor goes by parts, Shift chooses, Delete leaves out, Escape lets go', () => {
    const changes = shown()
    const key = (k: string, shiftKey = false) => fireEvent.keyDown(slider(), { key: k, shiftKey })
    key('Home')
    expect(told()).toMatch(/^0\.00 s/)
    key('PageUp')
    key('ArrowRight')
    expect(told()).toMatch(/^5\.50 s/)
    key('ArrowRight', true)
    key('ArrowRight', true)
    expect(field('to, s').value).toBe('6.50')
    key('Delete')
    expect(changes).toEqual([[[5.5, 6.5]]])
    key('End')
    key('Escape')
    expect(screen.queryByText('To its end')).toBeNull()
  })
  test('while it cannot be cut, it is only looked at', () => {
    show(<TimeLine line={line} slot={null} without={[]} change={null} />)
    drag(10, 20)
    expect([screen.queryByText('Leave it out'), store.getState().view.upTo]).toEqual([null, null])
  })
})

test('of a pass that was recorded: what is left out is solved without it, and what came after it once more', async () => {
  const sent = fakeServer(() => undefined)
  const pass = item('pass', 7, { name: 'Pass 1' })
  const solved = step('solve-recording', {
    id: pass.step,
    params: { spacing: 1 },
    outputs: { pass: [pass.slot] },
    evidence: { quantities: [], warnings: [], timeline: line },
  })
  const state = jobOf([pass], [solved, step('thin')])
  show(
    <>
      <UnderView />
      <FilesPart head={null} go={() => undefined} />
    </>,
    state,
  )
  // what came last is another step: it is asked for
  expect(screen.queryByRole('slider')).toBeNull()
  await click('How Pass 1 was recorded')
  await screen.findByRole('slider')
  expect(document.querySelector('.under')?.contains(slider())).toBe(true)
  drag(40, 60)
  await click('Leave it out')
  await click('Solve again, and the 1 after it')
  await waitFor(() => expect(sent.find((s) => s.method === 'POST')?.path).toBe(`jobs/${uuid(1)}/steps/${solved.id}/rerun`))
  expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({ params: { spacing: 1, without: [[40, 60]] } })
  // a floor afterwards: all frames are there, and what is not limited is not said
  fireEvent.click(screen.getByText('Spacing, floor, limits'))
  fireEvent.click(await screen.findByRole('radio', { name: 'the table goes' }))
  fireEvent.click(screen.getAllByRole('button', { name: /^Solve again/ }).at(-1)!)
  await waitFor(() => expect(sent.filter((s) => s.method === 'POST')).toHaveLength(2))
  expect(sent.filter((s) => s.method === 'POST')[1].body).toMatchObject({ params: { spacing: 1, floor: 'table', raise: 0.5 } })
  expect((sent.filter((s) => s.method === 'POST')[1].body as { params: object }).params).not.toHaveProperty('near')
})
