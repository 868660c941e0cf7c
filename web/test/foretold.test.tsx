/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, describe, expect, test } from '@jest/globals'
import { cleanup, screen, waitFor } from '@testing-library/react'
import type { Step } from '@oak-gauge/contract'
import { Foretold } from '../src/stages/capture/Foretold.tsx'
import { button, fakeServer, item, jobOf, show, step } from './help.tsx'

afterEach(cleanup)
type Evidence = NonNullable<Step['evidence']>
const quantity = (id: string, value: number | 'unknown', unit = '') => ({ id, words: id, value, unit }) as unknown as Evidence['quantities'][number]
const faces = (covered: number, u: number | 'unknown'): NonNullable<Evidence['faces']> => [{ of: 'plane (1), 900 mm²', face: 0, area: 900, covered, u }]
const nominal = item('nominal', 7)
const pass = item('pass', 8)
const rehearsed = step('rehearse-recording', {
  params: { limit: 0.1, spacing: 1.5, scanner: { distance: { error: 0.02, U: 0.01 } } },
  evidence: {
    quantities: [quantity('covered', 58.5, '%'), quantity('foretold-u', 0.05, 'mm'), quantity('faces-decidable', 100)],
    warnings: [],
    faces: faces(0.9, 0.02),
  },
})
const recorded = step('solve-recording', {
  outputs: { pass: [pass.slot] },
  evidence: { quantities: [quantity('frames', 100), quantity('frames-not-placed', 10)], warnings: [] },
})
const cells = (id: string) => [...(document.querySelector(`[data-foretold="${id}"]`)?.closest('tr')?.querySelectorAll('td') ?? [])].map((d) => d.textContent)

describe('what a rehearsal foretold', () => {
  test('before anything is recorded it stands alone', () => {
    show(<Foretold step={rehearsed} nominal={nominal} />, jobOf([nominal], [rehearsed]))
    expect(cells('covered')).toEqual(['59 %'])
    expect(screen.queryByRole('button', { name: 'Look what the recording came to' })).toBeNull()
  })
  test('beside it what was recorded: as soon as it was looked at, its coverage and each face', async () => {
    const sent = fakeServer(() => undefined)
    show(<Foretold step={rehearsed} nominal={nominal} />, jobOf([nominal, pass], [rehearsed, recorded]))
    expect([cells('covered'), cells('outside')]).toEqual([
      ['59 %', ''],
      ['', '10 %'],
    ])
    button('Look what the recording came to').click()
    await waitFor(() =>
      expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({
        operation: 'inspect-recording',
        inputs: { pass: [pass.slot], nominal: [nominal.slot] },
        params: { spacing: 1.5, limit: 0.1, distance: { error: 0.02, U: 0.01 } },
      }),
    )
    cleanup()
    const looked = step('inspect-recording', {
      inputs: { pass: [pass.slot], nominal: [nominal.slot] },
      evidence: {
        quantities: [quantity('covered', 60.1, '%'), quantity('foretold-u', 'unknown'), quantity('faces-decidable', 40)],
        warnings: [],
        faces: faces(0.8, 0.07),
      },
    })
    show(<Foretold step={rehearsed} nominal={nominal} />, jobOf([nominal, pass], [rehearsed, recorded, looked]))
    expect([cells('covered'), cells('u').at(-1), cells('decidable')]).toEqual([['59 %', '60 %'], 'not known', ['100 % of the faces', '40 % of the faces']])
    // a face that is known worse than the tolerance wants is told apart
    const row = [...document.querySelectorAll('[data-face="0"] td')]
    expect(row.map((d) => d.textContent)).toEqual(['90 %', '0.040', '80 %', '0.140'])
    expect(row.map((d) => d.className)).toEqual(['', '', '', 'beyond'])
  })
})
