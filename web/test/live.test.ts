/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { listen } from '../src/live/live.ts'

class Source {
  static CLOSED = 2
  static all: Source[] = []
  readyState = 0
  onopen: () => void = () => undefined
  onerror: () => void = () => undefined
  onmessage: (m: { data: string }) => void = () => undefined
  constructor() {
    Source.all.push(this)
  }
}
const said: { type: string; payload?: unknown }[] = []
const types = () => said.splice(0).map((a) => a.type.replace(/^.*\//, '') + (typeof a.payload === 'boolean' ? ` ${a.payload}` : ''))

beforeEach(() => {
  jest.useFakeTimers()
  Source.all.length = said.length = 0
  Object.assign(globalThis, { EventSource: Source })
  listen({ dispatch: (a) => said.push(a) })
})
afterEach(() => {
  jest.useRealTimers()
})

describe('a page that listens to the server', () => {
  test('asks for what is shown every two seconds while nothing is heard, and once more when it is heard again', () => {
    const [source] = Source.all
    source.onopen()
    expect(types()).toEqual(['connection true'])
    source.onerror()
    expect(types()).toEqual(['connection false'])
    // said again and again while the browser tries: asked for no more often
    source.onerror()
    jest.advanceTimersByTime(4100)
    expect(types()).toEqual(['connection false', 'invalidateTags', 'invalidateTags'])
    source.onopen()
    expect(types()).toEqual(['connection true', 'invalidateTags'])
    jest.advanceTimersByTime(60_000)
    expect(types()).toEqual([])
    expect(Source.all).toHaveLength(1)
  })
  test('asks for everything when the server says that something was not heard', () => {
    const [source] = Source.all
    source.onopen()
    types()
    source.onmessage({ data: '{"type":"here"}' })
    expect(types()).toEqual([])
    source.onmessage({ data: '{"type":"everything"}' })
    expect(types()).toEqual(['invalidateTags'])
  })
  test('refused, it opens another connection, where the browser would give up', () => {
    Source.all[0].readyState = Source.CLOSED
    Source.all[0].onerror()
    jest.advanceTimersByTime(2100)
    expect(Source.all).toHaveLength(2)
    said.length = 0
    Source.all[1].onopen()
    Source.all[1].onmessage({ data: JSON.stringify({ type: 'changed', job: 'j' }) })
    expect(types()).toEqual(['connection true', 'invalidateTags', 'invalidateTags'])
  })
  describe('by the line that all windows share', () => {
    class Worker {
      static made: Worker[] = []
      onerror: () => void = () => undefined
      port: { onmessage: (m: { data: unknown }) => void; postMessage: () => void } = { onmessage: () => undefined, postMessage: () => undefined }
      constructor() {
        Worker.made.push(this)
      }
    }
    const open = (SharedWorker: unknown): void => {
      Source.all.length = said.length = 0
      Object.assign(globalThis, { SharedWorker, addEventListener: () => undefined })
      listen({ dispatch: (a) => said.push(a) })
    }
    afterEach(() => {
      Reflect.deleteProperty(globalThis, 'SharedWorker')
    })
    test('hears what the worker hears, and opens no line of its own, not even when something in it breaks later', () => {
      open(Worker)
      const worker = Worker.made.at(-1)
      worker?.port.onmessage({ data: { open: true } })
      worker?.port.onmessage({ data: { event: { type: 'changed', job: 'j' } } })
      worker?.onerror()
      expect(types()).toEqual(['connection true', 'invalidateTags'])
      expect(Source.all).toHaveLength(0)
    })
    test('opens one of its own when the worker does not begin, or is forbidden', () => {
      open(Worker)
      Worker.made.at(-1)?.onerror()
      Worker.made.at(-1)?.onerror()
      expect(Source.all).toHaveLength(1)
      Source.all[0].onopen()
      expect(types()).toEqual(['connection true'])
      open(function forbidden() {
        throw new Error('SecurityError')
      })
      expect(Source.all).toHaveLength(1)
    })
  })
})
