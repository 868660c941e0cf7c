/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { cleanup, screen, waitFor } from '@testing-library/react'
import { Route, Routes, useNavigate } from 'react-router'
import { useEffect } from 'react'
import type { CaptureRun } from '@oak-gauge/contract'
import { goodRange, heardOf } from '../src/scanners/heard.ts'
import { SoundSwitch } from '../src/scanners/SoundSwitch.tsx'
import { LivePage } from '../src/stages/capture/LivePage.tsx'
import { doing, fakeServer, show, uuid } from './help.tsx'
import { captureRun } from './capturing.ts'

const range = { near: 250, ideal: 400, far: 550 }
const at = (distance: number | null, more: Partial<CaptureRun> = {}) => ({ phase: 'recording' as const, tracking: 'steady' as const, distance, range, ...more })

/** The graph of a page's sound. */
interface Node {
  frequency: { value: number; setTargetAtTime: jest.Mock }
  gain: { value: number; setTargetAtTime: jest.Mock }
  to: Node[]
}
let oscillators: Node[]
let gains: Node[]
const closed = jest.fn()
beforeEach(() => {
  oscillators = []
  gains = []
  closed.mockClear()
  localStorage.clear()
  const parameter = () => {
    const p = {
      value: 0,
      setTargetAtTime: jest.fn((v: number) => (p.value = v)),
      setValueAtTime: jest.fn(),
      linearRampToValueAtTime: jest.fn(),
    }
    return p
  }
  const node = (list: Node[]) => {
    const n = {
      frequency: parameter(),
      gain: parameter(),
      to: [] as unknown[],
      connect: (to: unknown) => (n.to.push(to), to),
      start: jest.fn(),
      stop: jest.fn(),
    }
    list.push(n as unknown as Node)
    return n
  }
  class Context {
    currentTime = 0
    destination = 'ears'
    createOscillator = () => node(oscillators)
    createGain = () => node(gains)
    resume = () => Promise.resolve()
    close = closed
  }
  Object.assign(globalThis, { AudioContext: Context })
})
afterEach(() => {
  cleanup()
  delete (globalThis as { AudioContext?: unknown }).AudioContext
})

describe('what is heard', () => {
  test('is higher the nearer than good, lower the farther, and nothing when it is good', () => {
    const [from, to] = goodRange(range)
    expect([from, to]).toEqual([280, 520])
    const tone = (d: number) => heardOf(at(d)).tone
    expect([280, 400, 520].map(tone)).toEqual([null, null, null])
    const near = [279, 265, 250].map(tone) as number[]
    const far = [521, 535, 550].map(tone) as number[]
    expect(near[0] < near[1] && near[1] < near[2] && far[0] > far[1] && far[1] > far[2] && near[0] > far[0]).toBe(true)
    expect([Math.round(near[2]), Math.round(far[2])]).toEqual([1320, 165])
    // nothing in view, and beyond all measure
    expect([tone(0)! <= 660 * 2 ** 1.5, heardOf(at(null)).tone]).toEqual([true, null])
  })
  test('ticks while its place is lost, whatever the distance; nothing while it is held or away', () => {
    expect(heardOf(at(100, { tracking: 'lost' }))).toEqual({ tone: null, ticks: true })
    for (const phase of ['held', 'waiting', 'solving', 'done', 'failed'] as const)
      expect(heardOf(at(100, { phase, tracking: 'lost' }))).toEqual({ tone: null, ticks: false })
    expect(heardOf(at(255, { phase: 'ready', tracking: 'none' })).tone).toBeGreaterThan(660)
  })
})

describe('the graph of the sound', () => {
  test('one tone whose pitch and level follow; two ticks; muted, it is closed, and stays so', async () => {
    const s = show(<SoundSwitch run={at(400)} />)
    expect(oscillators).toHaveLength(1)
    expect([oscillators[0].to[0], gains[0].to[0], gains[0].gain.value]).toEqual([gains[0], 'ears', 0])
    s.unmount()
    expect(closed).toHaveBeenCalledTimes(1)
    show(<SoundSwitch run={at(252)} />)
    expect([gains[1].gain.value > 0.05, Math.round(oscillators[1].frequency.value)]).toEqual([true, Math.round(heardOf(at(252)).tone!)])
    cleanup()
    show(<SoundSwitch run={at(252, { tracking: 'lost' })} />)
    expect([gains[2].gain.value, oscillators.slice(3).map((o) => o.frequency.value)]).toEqual([0, [1200, 1200]])
    await doing(() => screen.getByRole('switch', { name: 'Sound' }).click())
    await waitFor(() => expect(closed).toHaveBeenCalledTimes(3))
    expect(localStorage.getItem('oak.sound')).toBe('off')
    cleanup()
    const before = oscillators.length
    show(<SoundSwitch run={at(252)} />)
    expect([oscillators.length, screen.getByRole('switch').getAttribute('aria-checked')]).toEqual([before, 'false'])
  })
  test('a browser without sound is silent', () => {
    delete (globalThis as { AudioContext?: unknown }).AudioContext
    expect(() => show(<SoundSwitch run={at(252)} />)).not.toThrow()
  })
})

describe('the large page', () => {
  const Go = ({ to }: { to: string }) => {
    const go = useNavigate()
    useEffect(() => void go(to), [go, to])
    return null
  }
  const page = (run: CaptureRun | null) => {
    const scanner = { id: uuid(60), name: 'Alder', kind: 'laser-lines' }
    const sent = fakeServer((s) => (s.path === 'scanners' ? { body: [scanner] } : s.path.endsWith('/run') ? { body: run } : undefined))
    const plain = globalThis.fetch
    globalThis.fetch = (input: RequestInfo | URL, o?: RequestInit) =>
      typeof input === 'string' ? Promise.resolve(new Response(null, { status: 204 })) : plain(input, o)
    show(
      <>
        <Go to={`/live/${uuid(60)}`} />
        <Routes>
          <Route path="/live/:id" element={<LivePage />} />
          <Route path="*" element={null} />
        </Routes>
      </>,
    )
    return sent
  }
  test.each<[string, Partial<CaptureRun>, string, string | null]>([
    ['recording', {}, 'steady', 'hold'],
    ['lost', { tracking: 'lost', why: 'elsewhere', quarantine: 3 }, 'lost', 'hold'],
    ['held', { phase: 'held' }, 'held', 'record'],
    ['away', { phase: 'waiting' }, 'away', null],
  ])('%s: the state in one word, and one button', async (_, more, word, what) => {
    const sent = page({ ...captureRun, ...more })
    await screen.findByRole('heading', { name: word })
    const main = screen.getByRole<HTMLButtonElement>('button', { name: /Hold|Go on|Record/ })
    expect(main.disabled).toBe(what === null)
    main.click()
    if (what) await waitFor(() => expect(sent.filter((s) => s.method === 'POST').at(-1)?.path).toBe(`scanners/${uuid(60)}/run/${what}`))
    if (more.quarantine) expect(screen.getByText('It sees nothing that is known.', { exact: false })).toBeTruthy()
  })
  test('nothing is recorded: it says so, and waits', async () => {
    page(null)
    await screen.findByRole('heading', { name: 'Alder records nothing' })
  })
})
