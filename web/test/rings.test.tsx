/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeAll, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { cleanup, fireEvent, waitFor } from '@testing-library/react'
import type { ReactNode } from 'react'
import { mark, type PlanMarker } from '../src/stages/mark/markSlice.ts'
import { store } from '../src/store.ts'
import type { Stage } from '../src/view/scene.ts'
import { doing, fakeServer, jobOf, show } from './help.tsx'

const placed = { at: [5, 6, 40], normal: [0, 0, 1], perch: 'part', clear: 12.5, bend: 0 }
jest.unstable_mockModule('../src/stages/mark/planner.ts', () => ({
  openPlanner: () => undefined,
  judge: () => Promise.resolve(null),
  placeBy: () => Promise.resolve(placed),
  hiddenFrom: (_eye: unknown, places: unknown[]) => Promise.resolve(places.map((_, i) => i === 1)),
}))
let MarkerRings: (p: { stage: Stage }) => ReactNode
beforeAll(async () => {
  MarkerRings = (await import('../src/stages/mark/MarkerRings.tsx')).MarkerRings
})
beforeEach(() => {
  store.dispatch(mark.cleared())
  fakeServer()
})
afterEach(cleanup)

/** A stage seen from straight above, a pixel a millimetre. */
const beside: number[][][] = []
const stage = {
  project: (p: readonly number[]) => ({ x: 400 + p[0], y: 300 - p[1] }),
  eye: () => [0, 0, 1000],
  ray: (x: number, y: number) => ({ origin: [x, y, 500], direction: [0, 0, -1] }),
  onDraw: () => () => undefined,
  setBeside: (list: number[][]) => void beside.push(list),
} as unknown as Stage
const m = (id: string, x: number, normal: [number, number, number] = [0, 0, 1]): PlanMarker => ({ id, at: [x, 10, 0], normal, diameter: 6, perch: 'part' })
const rings = () => [...document.querySelectorAll('[data-marker]')]

describe('markers on the stage', () => {
  test('nothing where there are none', () => {
    show(<MarkerRings stage={stage} />, jobOf([]), 'Mark')
    expect(document.querySelector('svg.rings')).toBeNull()
  })

  test('stand where they are, faint when they face away or lie behind the part', async () => {
    store.dispatch(mark.draft([m('1', -50), m('2', 20), m('3', 60, [0, 0, -1])]))
    show(<MarkerRings stage={stage} />, jobOf([]), 'Mark')
    expect(rings().map((g) => g.getAttribute('transform'))).toEqual(['translate(350 290)', 'translate(420 290)', 'translate(460 290)'])
    expect(rings().map((g) => g.classList.contains('away'))).toEqual([false, false, true])
    await waitFor(() => expect(rings().map((g) => g.classList.contains('behind'))).toEqual([false, true, false]))
    expect(beside.at(-1)).toHaveLength(3)
    expect(document.querySelector('svg.rings')?.classList.contains('loose')).toBe(true)
  })

  test('groups that look alike carry a sign', () => {
    store.dispatch(mark.draft([m('1', -50), m('2', 20)]))
    store.dispatch(mark.judged({ verdict: { lookAlikes: [{ one: [0], other: [1] }] } as never, directions: [], took: 1 }))
    show(<MarkerRings stage={stage} />, jobOf([]), 'Mark')
    expect(rings().map((g) => g.getAttribute('data-kind'))).toEqual(['alike', 'alike'])
  })

  test('one is taken and dragged: it goes to where the planner puts it', async () => {
    store.dispatch(mark.draft([m('1', -50), m('2', 20)]))
    show(<MarkerRings stage={stage} />, jobOf([]), 'Mark')
    const g = rings()[0] as SVGGElement & { setPointerCapture(id: number): void }
    g.setPointerCapture = () => undefined
    await doing(() => fireEvent.pointerDown(g, { pointerId: 1, clientX: 350, clientY: 290 }))
    expect(store.getState().mark.selected).toBe('1')
    await doing(() => fireEvent.pointerMove(g, { pointerId: 1, clientX: 405, clientY: 294 }))
    await waitFor(() => expect(store.getState().mark.draft?.[0].at).toEqual([5, 6, 40]))
    expect(store.getState().mark.ground).toEqual({ clear: 12.5, bend: 0 })
    expect(store.getState().mark.draft?.[1].at).toEqual([20, 10, 0])
    await doing(() => fireEvent.pointerUp(g, { pointerId: 1 }))
  })

  test('one is put where it is clicked while adding', async () => {
    store.dispatch(mark.draft([m('1', -50)]))
    store.dispatch(mark.adding(true))
    show(<MarkerRings stage={stage} />, jobOf([]), 'Mark')
    await doing(() => fireEvent.pointerUp(document.querySelector('svg.rings rect') as Element, { clientX: 405, clientY: 294 }))
    await waitFor(() => expect(store.getState().mark.draft).toHaveLength(2))
    expect(store.getState().mark.draft?.[1]).toMatchObject({ id: '2', at: [5, 6, 40], perch: 'part', diameter: 6 })
    expect(store.getState().mark.selected).toBe('2')
  })
})
