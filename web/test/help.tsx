import { wordsOf, type QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { OPERATIONS } from '@oak-gauge/core/operations/registry.ts'
import { jest } from '@jest/globals'
import { act, fireEvent, render, screen } from '@testing-library/react'
import { App } from 'antd'
import type { ReactNode } from 'react'
import { Provider } from 'react-redux'
import { MemoryRouter } from 'react-router'
import { packHeader, type JobState, type Step, type TrayItem } from '@oak-gauge/contract'
import { api } from '../src/api.ts'
import { JobProvider, useJobView } from '../src/job/useJob.ts'
import { store } from '../src/store.ts'
import { view } from '../src/view/viewSlice.ts'

const IDENTITY = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]
export const uuid = (n: number) => `00000000-0000-4000-8000-${String(n).padStart(12, '0')}`

export const item = (role: TrayItem['role'], n: number, more: Partial<TrayItem> = {}): TrayItem => ({
  id: uuid(1000 + n),
  slot: uuid(n),
  role,
  setup: null,
  name: `${role} ${n}`,
  kind: role === 'pass' ? 'points' : role === 'deviation' || role === 'map' ? 'field' : 'mesh',
  count: 1000 * n,
  box: [0, 0, 0, 10, 10, 10],
  pose: IDENTITY,
  step: uuid(500),
  on: null,
  shown: 100,
  faces: 0,
  spacing: role === 'pass' ? 0.25 : null,
  coloured: false,
  ...more,
})

const declared = (name: string): Pick<Step, 'stage' | 'shows'> => {
  const o = OPERATIONS.find((x) => x.name === name)
  return { stage: o?.stage ?? 'Clean', shows: o?.shows ?? [] }
}

let seq = 0
export const step = (operation: string, more: Partial<Step> = {}): Step => ({
  id: uuid(500 + ++seq),
  parent: null,
  seq,
  operation,
  title: operation,
  ...declared(operation),
  params: {},
  inputs: {},
  outputs: {},
  state: 'done',
  preview: false,
  progress: 1,
  phase: '',
  evidence: { quantities: [], warnings: [] },
  problem: null,
  milliseconds: 1200,
  reused: false,
  createdAt: '2026-05-04T08:00:00.000Z',
  file: null,
  recordedWith: null,
  ...more,
})

/** A job standing at the last of the given steps, which follow each other. */
export function jobOf(tray: TrayItem[], steps: Step[] = [], more: Partial<JobState['job']> = {}): JobState {
  const done = steps.filter((s) => s.state === 'done' && !s.preview)
  done.forEach((s, i) => (s.parent = done[i - 1]?.id ?? null))
  return {
    job: {
      id: uuid(1),
      title: 'Bracket',
      part: '',
      purpose: 'inspection',
      tolerance: 0.2,
      surface: 'matte',
      notes: '',
      scanner: null,
      demo: false,
      createdAt: '2026-05-04T08:00:00.000Z',
      updatedAt: '2026-05-04T08:00:00.000Z',
      ...more,
    },
    setups: [
      { id: uuid(11), name: 'Setup 1', place: 0 },
      { id: uuid(12), name: 'Setup 2', place: 1 },
    ],
    head: done.at(-1)?.id ?? null,
    forward: null,
    tray,
    steps,
  }
}

/** What the stage gets of an item: four points on a table. */
function shownPoints(): Uint8Array {
  const xyz = Float32Array.of(0, 0, 0, 9, 0, 0, 0, 9, 0, 5, 5, 12)
  const header = packHeader([{ name: 'xyz', type: 'f32', length: xyz.length }])
  const out = new Uint8Array(header.length + xyz.byteLength)
  out.set(header)
  out.set(new Uint8Array(xyz.buffer), header.length)
  return out
}

export interface Sent {
  method: string
  path: string
  /** without what a request says of itself */
  body: any
  asked: { after?: string | null; request?: string }
}

const LISTS = ['jobs', 'scanners', 'artefacts', 'operations']
/** Answers every request as told; what was asked is kept. */
export function fakeServer(answer: (s: Sent) => { status?: number; body?: unknown } | undefined = () => undefined): Sent[] {
  const sent: Sent[] = []
  globalThis.fetch = jest.fn(async (input: unknown) => {
    if (typeof input === 'string') return new Response(shownPoints() as BodyInit)
    const r = input as Request
    const text = await r.text()
    const { after, request, ...body } = (text ? JSON.parse(text) : {}) as Record<string, any>
    const path = new URL(r.url).pathname.replace('/api/v1/', '') + new URL(r.url).search.replace(/^\?limit=\d+$/, '')
    const s = { method: r.method, path, body: text ? body : undefined, asked: { ...(after === undefined ? {} : { after }), request } }
    sent.push(s)
    const a = answer(s) ?? { body: /^(scanners|artefacts|jobs\/[^/]+\/uploads)$/.test(s.path) ? [] : {} }
    if (a.status === 204) return new Response(null, { status: 204 })
    // lists come in pages
    const told =
      LISTS.includes(path) && r.method === 'GET' && (a.status ?? 200) < 300 ? { items: Array.isArray(a.body) ? (a.body as unknown[]) : [], next: null } : a.body
    return new Response(JSON.stringify(told ?? null), { status: a.status ?? 200, headers: { 'content-type': 'application/json' } })
  })
  return sent
}

function Inside({ state, stage, children }: { state: JobState; stage: string; children: ReactNode }) {
  const open = useJobView(state, stage)
  return <JobProvider value={open}>{children}</JobProvider>
}

/** Shows a part of the page with a job open around it. */
export function show(what: ReactNode, state: JobState = jobOf([]), stage = 'Capture'): { container: HTMLElement; unmount(): void; become(s: JobState): void } {
  store.dispatch(api.util.resetApiState())
  store.dispatch(view.cleared())
  const tree = (s: JobState) => (
    <Provider store={store}>
      <App>
        <MemoryRouter>
          <Inside state={s} stage={stage}>
            {what}
          </Inside>
        </MemoryRouter>
      </App>
    </Provider>
  )
  const r = render(tree(state))
  return { container: r.container, unmount: r.unmount, become: (s) => r.rerender(tree(s)) }
}

export const button = (name: string | RegExp) => screen.getByRole('button', { name })

/** Does something, and waits until what it set off has come to rest. */
export const doing = (f: () => void): Promise<void> =>
  act(() => {
    f()
    return Promise.resolve()
  })

export const type = (label: string, text: string) => {
  const field = screen.getByLabelText(label)
  fireEvent.change(field, { target: { value: text } })
  fireEvent.keyDown(field, { key: 'Enter' })
}
export const click = (name: string | RegExp) => doing(() => void fireEvent.click(button(name)))

/** Three passes in two setups. */
export const passes = [item('pass', 1, { setup: uuid(11) }), item('pass', 2, { setup: uuid(11) }), item('pass', 3, { setup: uuid(12) })]
export const q = (id: QuantityId, value: number | string, unit = 'mm', of?: string) => ({ id, name: wordsOf({ id }), value, unit, ...(of ? { of } : {}) })
export const adjusted = (error: number) =>
  step('adjust', {
    evidence: {
      quantities: [
        q('alignment-worst-pass', error),
        q('gap-between-passes-rms', 0.004),
        q('gap-rms', 0.003, 'mm', 'pass 1'),
        q('pair-rms', 0.002, 'mm', 'pass 1 with pass 2'),
      ],
      warnings: [],
    },
  })
