/** @jest-environment ./web/test/browser-env.mjs */
import { wordsOf, type QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { afterEach, describe, expect, jest, test } from '@jest/globals'
import { act, cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react'
import type { JobSummary } from '@oak-gauge/contract'
import { BenchPage } from '../src/bench/BenchPage.tsx'
import { FindAction } from '../src/help/FindAction.tsx'
import { EvidenceStrip } from '../src/job/EvidenceStrip.tsx'
import { Ledger } from '../src/job/Ledger.tsx'
import { Rule } from '../src/job/Rule.tsx'
import { Tray } from '../src/job/Tray.tsx'
import { useKeys } from '../src/job/useKeys.ts'
import { WorkCard } from '../src/job/WorkCard.tsx'
import { progressSlice } from '../src/progress.ts'
import { Amount } from '../src/looks/Amount.tsx'
import { store } from '../src/store.ts'
import { view } from '../src/view/viewSlice.ts'
import { button, doing, fakeServer, item, jobOf, show, step, uuid } from './help.tsx'

afterEach(cleanup)
const click = (name: string | RegExp) => doing(() => void fireEvent.click(button(name)))
const q = (id: QuantityId, value: number | string, unit = 'mm') => ({ id, name: wordsOf({ id }), value, unit })

describe('a field for an amount', () => {
  test('takes what people type; what is no length stays and says so', () => {
    fakeServer()
    const change = jest.fn()
    show(<Amount label="Cell" value={0.3} usual={0.3} onChange={change} step={0.05} reason="a reason" />)
    const field = screen.getByLabelText<HTMLInputElement>('Cell')
    const enter = (t: string) => {
      fireEvent.change(field, { target: { value: t } })
      fireEvent.keyDown(field, { key: 'Enter' })
    }
    enter('1/8')
    expect(screen.getByRole('alert').textContent).toContain('4 in')
    enter('-1')
    expect(change).not.toHaveBeenCalled()
    enter('0,02 in')
    expect(change).toHaveBeenLastCalledWith(0.508)
    fireEvent.keyDown(field, { key: 'ArrowUp' })
    expect(change).toHaveBeenLastCalledWith(0.35)
    fireEvent.keyDown(field, { key: 'ArrowDown' })
    expect(change).toHaveBeenLastCalledWith(0.25)
  })
  test('a changed one leads back to the usual', () => {
    fakeServer()
    const change = jest.fn()
    show(<Amount label="Cell" value={0.5} usual={0.3} onChange={change} />)
    fireEvent.click(button('changed'))
    expect(change).toHaveBeenLastCalledWith(0.3)
  })
})

describe('the ledger', () => {
  const steps = () => [
    step('import', { title: 'Bring in a file', file: 'top.ply' }),
    step('trim-plane', {
      title: 'Trim by a plane',
      params: {
        raise: 0.3,
        through: [
          [0, 0, 0],
          [1, 0, 0],
          [0, 1, 0],
        ],
      },
      evidence: { quantities: [q('points-gone', 1200, '')], warnings: [] },
    }),
    step('merge', { title: 'Merge', params: { cell: 0.3 }, evidence: { quantities: [q('triangles', 9000, '')], warnings: ['A note.'] } }),
  ]
  const open = () => act(() => void store.dispatch(view.ledger(true)))
  const closeIt = () => act(() => void store.dispatch(view.ledger(false)))
  test('a flag says what was stated and how uncertain it is; what is not known says so', () => {
    fakeServer()
    const flag = (u: number | 'unknown', stated: object) =>
      step('flag', { params: { label: 'foot', stated }, evidence: { quantities: [{ ...q('deviation', 0.4203), u }], warnings: [] } })
    show(<Ledger />, jobOf([], [flag(0.0105, { scanner: 0.02 }), flag('unknown', {})]))
    open()
    const [open0, known] = [...document.querySelectorAll<HTMLElement>('[data-step]')].map((l) => l.textContent)
    expect(known).toContain('stated: scanner 0.02')
    expect(known).toContain('deviation 0.420 ± 0.021 mm')
    expect(open0).toContain('stated: nothing')
    expect(open0).toContain('± ? mm')
    closeIt()
  })
  test('newest first, with settings, numbers, notes and failures', () => {
    fakeServer()
    const failed = step('merge', { title: 'Merge', state: 'failed', problem: { code: 'x', detail: 'Too fine.', where: '', remedy: 'Choose 0.3 mm.' } })
    const preview = step('strays', { title: 'Remove strays', preview: true })
    show(<Ledger />, jobOf([], [...steps(), failed, preview]))
    open()
    const lines = [...document.querySelectorAll<HTMLElement>('[data-step]')]
    expect(lines.map((l) => l.dataset['step'])).toEqual(['merge', 'merge', 'trim-plane', 'import'])
    expect(lines[0].textContent).toContain('Too fine. Choose 0.3 mm.')
    expect(lines[1].textContent).toContain('the job stands here')
    expect(lines[1].textContent).toContain('A note.')
    expect(lines[2].textContent).toContain('raise: 0.3 · through: 3 of them')
    expect(lines[2].textContent).toContain('points gone 1\u202f200')
    expect(lines[3].textContent).toContain('Bring in a file: top.ply')
    closeIt()
  })
  test('going to a step, and to the very beginning', async () => {
    const sent = fakeServer(() => ({ body: jobOf([]) }))
    const list = steps()
    show(<Ledger />, jobOf([], list))
    open()
    const trim = document.querySelector('[data-step="trim-plane"]') as HTMLElement
    await doing(() => void fireEvent.click(within(trim).getByRole('button', { name: 'Go here' })))
    await click('To the very beginning')
    expect(sent.map((s) => [s.path, s.body])).toEqual([
      [`jobs/${uuid(1)}/head`, { step: list[1].id }],
      [`jobs/${uuid(1)}/head`, { step: null }],
    ])
    closeIt()
  })
  test('a setting changed runs that step and those after it; what is no number is not sent', async () => {
    const list = steps()
    const sent = fakeServer((s) =>
      s.path === 'operations'
        ? {
            body: [
              {
                name: 'trim-plane',
                settings: {
                  properties: {
                    raise: { type: 'number', default: 0.3, description: 'mm' },
                    flip: { type: 'boolean', default: false },
                    through: { type: 'array' },
                  },
                },
              },
            ],
          }
        : { body: [] },
    )
    show(<Ledger />, jobOf([], list))
    open()
    const trim = document.querySelector('[data-step="trim-plane"]') as HTMLElement
    await doing(() => void fireEvent.click(within(trim).getByRole('button', { name: 'Change and run on' })))
    const field = await screen.findByLabelText('raise')
    fireEvent.change(field, { target: { value: 'high' } })
    expect((button('Run, and the 1 after it') as HTMLButtonElement).disabled).toBe(true)
    fireEvent.change(field, { target: { value: '0,5' } })
    fireEvent.click(screen.getByRole('switch'))
    await click('Run, and the 1 after it')
    const rerun = sent.find((s) => s.path.endsWith('/rerun'))
    expect(rerun?.path).toContain(list[1].id)
    expect(rerun?.body.params).toEqual({ ...list[1].params, raise: 0.5, flip: true })
    closeIt()
  })
  test('while a step runs nothing may be moved', () => {
    fakeServer()
    show(<Ledger />, jobOf([], [...steps(), step('reduce', { state: 'running' })]))
    open()
    for (const b of screen.getAllByRole('button', { name: /Go here|Change and run on|very beginning/ })) expect((b as HTMLButtonElement).disabled).toBe(true)
    closeIt()
  })
})

describe('the strip of evidence', () => {
  test('numbers of the last step of each kind, and whether they rose or fell', () => {
    fakeServer()
    const adjust = (v: number) => step('adjust', { evidence: { quantities: [q('alignment-worst-pass', v), q('gap-between-passes-rms', 0.01)], warnings: [] } })
    show(<EvidenceStrip back={null} forward={null} />, jobOf([item('pass', 4)], [adjust(0.02), adjust(0.0046)]))
    expect(document.querySelector('[data-strip="Alignment, worst pass"]')?.textContent).toBe('0.0046mm↓')
    expect(document.querySelector('[data-strip="Points"]')?.textContent).toContain('4\u202f000')
    expect(screen.getByText('Ledger, 2 steps')).toBeTruthy()
    expect((button(/step back/) as HTMLButtonElement).disabled).toBe(true)
    expect(screen.queryByRole('button', { name: /forward/ })).toBeNull()
  })
})

describe('the tray', () => {
  test('setups folded, opened, hidden together or one by one', () => {
    fakeServer()
    const passes = [item('pass', 1, { setup: uuid(11) }), item('pass', 2, { setup: uuid(11) }), item('pass', 3)]
    show(<Tray />, jobOf([...passes, item('nominal', 8, { faces: 17 })]))
    expect(screen.getByText('17 faces')).toBeTruthy()
    expect(screen.getByText('Without a setup')).toBeTruthy()
    expect(document.querySelector('[data-item="pass 1"]')).toBeNull()
    fireEvent.click(button(/^Setup 1/))
    expect(document.querySelectorAll('[data-item^="pass"]')).toHaveLength(2)
    fireEvent.click(button('Hide pass 1'))
    expect(store.getState().view.hidden).toEqual({ ...store.getState().view.hidden, [uuid(1)]: true })
    // one of two is shown: the eye of the setup hides both, then shows both
    fireEvent.click(button('Hide Setup 1'))
    fireEvent.click(button('Show Setup 1'))
    expect([store.getState().view.hidden[uuid(1)], store.getState().view.hidden[uuid(2)]]).toEqual([false, false])
  })
})

describe('a running step', () => {
  test('how far, how long still, how many wait; and a way to stop it', async () => {
    const sent = fakeServer()
    const running = step('merge', { title: 'Merge', state: 'running' })
    show(<WorkCard question="?" />, jobOf([], [running, step('reduce', { state: 'queued' })]))
    act(() => void store.dispatch(progressSlice.actions.progressed({ step: running.id, progress: 0.42, phase: 'distance field', remaining: 12_300 })))
    expect(screen.getByRole('progressbar').getAttribute('aria-valuenow')).toBe('42')
    expect(screen.getByRole('status').textContent).toContain('distance field, about 12 s left, 1 more after it')
    await click('Cancel')
    expect(sent[0]).toMatchObject({ method: 'POST', path: `jobs/${uuid(1)}/steps/${running.id}/cancel` })
  })
})

describe('keys', () => {
  function Keys(keys: Parameters<typeof useKeys>[0]) {
    useKeys(keys)
    return (
      <div className="card">
        <div className="foot">
          <button className="ant-btn-primary" onClick={keys.find}>
            main
          </button>
        </div>
        <input aria-label="field" />
      </div>
    )
  }
  test('do what the list of keys says, and nothing while typing', () => {
    fakeServer()
    const [back, forward, find, help] = [jest.fn(), jest.fn(), jest.fn(), jest.fn()]
    show(<Keys back={back} forward={forward} find={find} help={help} />)
    const press = (key: string, more: object = {}) => fireEvent.keyDown(window, { key, ...more })
    const before = store.getState().view
    press('z')
    press('Z')
    press('?')
    press('5')
    press('f')
    press('k', { ctrlKey: true })
    expect([back, forward, help, find].map((f) => f.mock.calls.length)).toEqual([1, 1, 1, 1])
    expect(store.getState().view.standardView).toEqual({ view: 5, count: before.standardView.count + 1 })
    expect(store.getState().view.frame).toBe(before.frame + 1)
    press(' ')
    expect(find).toHaveBeenCalledTimes(2)
    fireEvent.keyDown(screen.getByLabelText('field'), { key: 'z' })
    expect(back).toHaveBeenCalledTimes(1)
  })
})

describe('finding an action', () => {
  test('by any words of its name, with the arrows and Enter', () => {
    fakeServer()
    const ran: string[] = []
    const actions = ['Go to Merge', 'Go to Datum', 'View from above'].map((name) => ({ name, run: () => ran.push(name) }))
    const close = jest.fn()
    show(<FindAction actions={actions} onClose={close} />)
    const field = screen.getByPlaceholderText('Find any action')
    fireEvent.change(field, { target: { value: 'to go' } })
    fireEvent.keyDown(field, { key: 'ArrowDown' })
    fireEvent.keyDown(field, { key: 'Enter' })
    expect([ran, close.mock.calls.length]).toEqual([['Go to Datum'], 1])
    fireEvent.change(field, { target: { value: 'weld' } })
    expect(screen.getByText('No action has that name.')).toBeTruthy()
  })
})

describe('the rule', () => {
  test('says for each stage how far it is, and leads there', () => {
    fakeServer()
    const go = jest.fn()
    const warned = step('merge', { evidence: { quantities: [], warnings: ['x'] } })
    show(<Rule go={go} />, jobOf([item('pass', 1), item('mesh', 2)], [step('import'), warned]), 'Merge')
    expect(button(/^Merge/).textContent).toContain('needs a look')
    expect(button(/^Capture/).textContent).toContain('evidence good')
    expect(button(/^Datum/).textContent).toContain('not started')
    expect(button(/^Merge/).getAttribute('aria-current')).toBe('step')
    fireEvent.click(button(/^Inspect/))
    expect(go).toHaveBeenCalledWith('Inspect')
  })
})

describe('the bench', () => {
  const summary = (n: number, more: Partial<JobSummary> = {}): JobSummary => ({
    ...jobOf([]).job,
    id: uuid(n),
    title: `Job ${n}`,
    stage: 'Merge',
    headline: 'Merge: done',
    picture: null,
    ofNominal: false,
    passes: 2,
    busy: false,
    ...more,
  })
  test('jobs as cards; one is deleted only after it was asked for', async () => {
    const sent = fakeServer((s) =>
      s.path === 'jobs' ? { body: [summary(1), summary(2, { busy: true, tolerance: null })] } : s.method === 'GET' ? { body: [] } : { status: 204 },
    )
    show(<BenchPage />)
    const card = await screen.findByRole('link', { name: 'Job 1' })
    expect(card.getAttribute('href')).toBe(`/jobs/${uuid(1)}`)
    expect(within(card.closest('.jobcard') as HTMLElement).getByText('0.20 mm')).toBeTruthy()
    expect(screen.getByText('computing')).toBeTruthy()
    await click('More about Job 1')
    const entry = await screen.findByText('Delete the job')
    await doing(() => void fireEvent.click(entry))
    expect(sent.some((s) => s.method === 'DELETE')).toBe(false)
    const sure = await screen.findByRole('button', { name: 'Delete' })
    await doing(() => void fireEvent.click(sure))
    await waitFor(() => expect(sent.find((s) => s.method === 'DELETE')?.path).toBe(`jobs/${uuid(1)}`))
  })
  test('a new job wants a name; N opens it', async () => {
    const sent = fakeServer((s) => (s.method === 'POST' ? { body: jobOf([]) } : { body: [] }))
    show(<BenchPage />)
    fireEvent.keyDown(window, { key: 'n' })
    const put = await screen.findByRole('button', { name: 'Put it on the bench' })
    expect((put as HTMLButtonElement).disabled).toBe(true)
    fireEvent.change(screen.getByLabelText('Name of the part'), { target: { value: 'Pawl' } })
    fireEvent.change(screen.getByLabelText(/^Tolerance/), { target: { value: 'wide' } })
    expect((put as HTMLButtonElement).disabled).toBe(true)
    fireEvent.change(screen.getByLabelText(/^Tolerance/), { target: { value: '0.1 in' } })
    await click('Put it on the bench')
    await waitFor(() => expect(sent.find((s) => s.method === 'POST')?.body).toMatchObject({ title: 'Pawl', purpose: 'inspection' }))
    expect(sent.find((s) => s.method === 'POST')?.body.tolerance).toBeCloseTo(2.54, 9)
  })
  test('a server that does not answer is said', async () => {
    globalThis.fetch = jest.fn(() => Promise.reject(new TypeError('no')))
    show(<BenchPage />)
    expect((await screen.findByRole('alert')).textContent).toContain('The server does not answer.')
  })
})
