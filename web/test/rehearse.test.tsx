/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals'
import { cleanup, fireEvent, screen, waitFor } from '@testing-library/react'
import type { ScannerSummary } from '@oak-gauge/contract'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { RehearsePart } from '../src/stages/capture/RehearsePart.tsx'
import { button, click, fakeServer, item, jobOf, show, uuid } from './help.tsx'

const NAMES = ['alder', 'hazel', 'rowan']
const scanners = NAMES.map((n, k) => {
  const { name, spec } = DEVICES[n]
  return {
    id: uuid(60 + k),
    name,
    kind: spec.kind,
    turntable: spec.turntable,
    own: spec.own !== undefined,
    verification: null,
    run: null,
  } as unknown as ScannerSummary
})
const nominal = item('nominal', 7)
// what is proposed is found out in a thread: here it never is
beforeEach(() => {
  globalThis.Worker = class {
    postMessage() {}
    terminate() {}
  } as unknown as typeof Worker
})
afterEach(cleanup)

const begun = () => {
  const sent = fakeServer((s) => {
    const k = scanners.findIndex((x) => s.path === `scanners/${x.id}`)
    return k < 0 ? undefined : { body: { ...scanners[k], spec: DEVICES[NAMES[k]].spec } }
  })
  show(<RehearsePart head={null} scanners={scanners} onRecord={() => undefined} />, jobOf([nominal]))
  return sent
}
const choose = async (label: string, option: string) => {
  fireEvent.mouseDown(screen.getByLabelText(label))
  fireEvent.click(await screen.findByText(option, { selector: '.ant-select-item-option-content' }))
}
const asked = async (sent: ReturnType<typeof begun>, name: string) => {
  await waitFor(() => expect((button(`Rehearse with ${name}`) as HTMLButtonElement).disabled).toBe(false))
  const before = sent.filter((s) => s.method === 'POST').length
  await click(`Rehearse with ${name}`)
  await waitFor(() => expect(sent.filter((s) => s.method === 'POST')).toHaveLength(before + 1))
  return sent.findLast((s) => s.method === 'POST')!.body
}

describe('a rehearsal', () => {
  test('of a scanner that is led by hand takes as long as one says; it is held by shape or by planned markers', async () => {
    const sent = begun()
    expect(screen.getByLabelText('Duration')).toBeTruthy()
    expect(screen.queryByLabelText('Shots')).toBeNull()
    expect(await asked(sent, 'Alder')).toMatchObject({
      operation: 'rehearse-recording',
      params: { by: 'shape', seconds: 40, scanner: { way: 'hand', pattern: 'cross' } },
    })
  })
  test('before a turntable takes shots, held by what the table says', async () => {
    const sent = begun()
    await choose('Scanner', 'Hazel')
    await choose('Held by', 'its turntable, and shape')
    expect(screen.queryByLabelText('Duration')).toBeNull()
    fireEvent.change(screen.getByLabelText('Shots'), { target: { value: '12' } })
    fireEvent.blur(screen.getByLabelText('Shots'))
    const body = await asked(sent, 'Hazel')
    expect(body).toMatchObject({
      inputs: { shape: [nominal.slot] },
      params: { by: 'both', shots: 12, scanner: { way: 'table', pattern: 'area', own: DEVICES['hazel'].spec.own } },
    })
    expect(body.inputs.plan).toBeUndefined()
  })
  test('under the line of an arm takes as long as its way; what an arm alone says is not asked of another scanner', async () => {
    const sent = begun()
    await choose('Scanner', 'Rowan')
    await choose('Held by', 'its arm alone')
    expect([screen.queryByLabelText('Duration'), screen.queryByLabelText('Shots')]).toEqual([null, null])
    expect(await asked(sent, 'Rowan')).toMatchObject({ params: { by: 'own', scanner: { way: 'arm', pattern: 'line', own: DEVICES['rowan'].spec.own } } })
    await choose('Scanner', 'Alder')
    expect(await asked(sent, 'Alder')).toMatchObject({ params: { by: 'shape' } })
  })
})
