/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, jest, test } from '@jest/globals'
import { act, cleanup, render } from '@testing-library/react'
import { Provider } from 'react-redux'
import type { Stage as StageName } from '@oak-gauge/contract'
import { AlignCard } from '../src/stages/align/AlignCard.tsx'
import { store } from '../src/store.ts'
import { arrowOf, Motions } from '../src/view/Motions.tsx'
import type { Stage } from '../src/view/scene.ts'
import { view } from '../src/view/viewSlice.ts'
import { adjusted, fakeServer, jobOf, passes, show } from './help.tsx'

afterEach(() => {
  cleanup()
  act(() => void store.dispatch(view.motions([])))
})
const slide = { kind: 'slide' as const, axis: [0, 0, 1] as [number, number, number], through: [5, 6, 7] as [number, number, number], size: 20, of: ['pass 3'] }
const about = (kind: 'turn' | 'screw') => ({ ...slide, kind, axis: [1, 0, 0] as [number, number, number] })

describe('arrows of motions that nothing holds', () => {
  test('a slide is straight along its axis, through its middle, shorter than what slides', () => {
    const places = arrowOf(slide)
    expect(places.map((p) => [p[0], p[1]])).toEqual([
      [5, 6],
      [5, 6],
      [5, 6],
    ])
    expect(places.map((p) => p[2])).toEqual([7 - 11, 7, 7 + 11])
  })
  test('a turn runs round its axis at one height and radius, a screw climbs', () => {
    for (const kind of ['turn', 'screw'] as const) {
      const places = arrowOf(about(kind))
      for (const p of places) expect(Math.hypot(p[1] - 6, p[2] - 7)).toBeCloseTo(8, 9)
      const climb = places.at(-1)![0] - places[0][0]
      expect(climb).toBeCloseTo(kind === 'turn' ? 0 : 8, 9)
    }
  })
  test('they are drawn where the stage sees them, with words; behind the eye nothing is', () => {
    let redraw = () => undefined as void
    let behind = false
    const stage = { project: (p: number[]) => (behind ? null : { x: p[0], y: p[2] }), onDraw: (f: () => void) => ((redraw = f), () => undefined) }
    act(() => void store.dispatch(view.motions([slide, about('turn')])))
    render(
      <Provider store={store}>
        <Motions stage={stage as unknown as Stage} />
      </Provider>,
    )
    const drawn = (words: string) => document.querySelector(`[data-motion="${words}"] path`)?.getAttribute('d')
    expect(drawn('slide along z')).toBe('M5.0 -4.0L5.0 7.0L5.0 18.0')
    expect(drawn('turn about x')).toMatch(/^M/)
    behind = true
    redraw()
    expect(drawn('slide along z')).toBe('')
  })
  test('the card of a step that found some shows them, and takes them along when it is left', () => {
    fakeServer()
    const done = adjusted(0.02)
    if (done.evidence) done.evidence.motions = [slide]
    const shown = show(<AlignCard go={jest.fn<(s: StageName) => void>()} />, jobOf(passes.slice(0, 2), [done]), 'Align')
    expect(store.getState().view.motions).toEqual([slide])
    shown.unmount()
    expect(store.getState().view.motions).toEqual([])
  })
})
