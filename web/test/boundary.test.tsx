/** @jest-environment ./web/test/browser-env.mjs */
import { describe, expect, jest, test } from '@jest/globals'
import { render, screen } from '@testing-library/react'
import { createMemoryRouter, RouterProvider } from 'react-router'
import { Box3, Vector3 } from 'three'
import { Boundary, BrokenPage } from '../src/looks/Boundary.tsx'
import { barLength } from '../src/view/Bearings.tsx'
import { isOther } from '../src/view/viewpoint.ts'

const Breaks = ({ why }: { why: string }): never => {
  throw new Error(why)
}
const quietly = (f: () => void) => {
  // React tells every error on the console as well
  const heard = jest.spyOn(console, 'error').mockImplementation(() => undefined)
  try {
    f()
  } finally {
    heard.mockRestore()
  }
}

describe('an error of the page', () => {
  test('stays within its part, says what to do, and is tried again when it is about something else', () => {
    quietly(() => {
      const tree = (about: string, ok: boolean) => (
        <div>
          <p>the rest</p>
          <Boundary about={about}>{ok ? <p>whole again</p> : <Breaks why="x is not a thing" />}</Boundary>
        </div>
      )
      const { rerender } = render(tree('Merge', false))
      expect(screen.getByText('the rest')).toBeTruthy()
      expect(screen.getByRole('alert').textContent).toMatch(/This part of the page broke.*Nothing of the job is lost.*x is not a thing/)
      expect(screen.getByRole('button', { name: 'Load again' })).toBeTruthy()
      rerender(tree('Merge', true))
      expect(screen.queryByText('whole again')).toBeNull()
      rerender(tree('Datum', true))
      expect(screen.getByText('whole again')).toBeTruthy()
      expect(screen.queryByRole('alert')).toBeNull()
    })
  })
  test.each([
    ['x is not a thing', /broke/],
    ['Failed to fetch dynamically imported module: /assets/JobPage-1.js', /could not be loaded.*started anew/],
  ])('of a whole page: %s', async (why, words) => {
    const heard = jest.spyOn(console, 'error').mockImplementation(() => undefined)
    const router = createMemoryRouter([{ path: '/', element: <Breaks why={why} />, errorElement: <BrokenPage /> }])
    render(<RouterProvider router={router} />)
    expect((await screen.findByRole('alert')).textContent).toMatch(words)
    expect(screen.getByRole('link', { name: 'Back to the bench' }).getAttribute('href')).toBe('/')
    heard.mockRestore()
  })
})

describe('the bar', () => {
  test.each([
    [1, 100],
    [0.4, 50],
    [0.16, 20],
    [0.01, 1],
    [0.0004, 0.05],
    [12, 1000],
  ])('%p mm a pixel: %p mm long', (mmPerPixel, length) => {
    expect(barLength(mmPerPixel)).toBeCloseTo(length, 9)
    // between two fifths of the widest and the widest
    for (let k = 0; k < 200; k++) {
      const scale = mmPerPixel * 1.03 ** k
      const px = barLength(scale) / scale
      expect(px).toBeLessThanOrEqual(130.001)
      expect(px).toBeGreaterThan(130 / 2.5001)
    }
  })
})

describe('the view is framed anew', () => {
  const box = (size: number, at = 0) => new Box3(new Vector3(at, 0, 0), new Vector3(at + size, size, size))
  test.each([
    ['the table is gone', box(100, 40), box(300), true],
    ['a few strays less', box(290), box(300), false],
    ['nothing has changed', box(300), box(300), false],
    ['it lies elsewhere', box(300, 200), box(300), true],
    ['a second setup came', box(500), box(300), true],
    ['the first thing came', box(10), new Box3(), true],
    ['nothing is left', new Box3(), box(10), false],
  ])('%s', (_what, now, then, anew) => expect(isOther(now, then, true)).toBe(anew))

  test('of other things as if the former had never been', () => {
    expect(isOther(box(290), box(300), false)).toBe(true)
    expect(isOther(box(300), box(300), false)).toBe(false)
    expect(isOther(new Box3(), box(300), false)).toBe(false)
  })
})
