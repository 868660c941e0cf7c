/** @jest-environment ./web/test/browser-env.mjs */
import { describe, expect, jest, test } from '@jest/globals'
import { packHeader } from '@oak-gauge/contract'
import { displayOf, forgetPreview, previewOf } from '../src/view/display.ts'

/** A container with one number, as the server sends it. */
function container(v: number): ArrayBuffer {
  const header = packHeader([{ name: 'values', type: 'f32', length: 1 }])
  const out = new Uint8Array(header.length + 4)
  out.set(header)
  new DataView(out.buffer).setFloat32(header.length, v, true)
  return out.buffer
}

describe('what the screen shows of an item', () => {
  const asked: string[] = []
  let failing = false
  globalThis.fetch = jest.fn((url: unknown) => {
    asked.push(String(url))
    const body = failing ? null : container(Number(/items\/i(\d+)/.exec(String(url))?.[1]))
    return Promise.resolve(new Response(body, { status: failing ? 500 : 200 }))
  })
  test('is fetched once, however often it is asked for', async () => {
    const [a, b] = await Promise.all([displayOf('i1'), displayOf('i1')])
    expect(a).toBe(b)
    expect(a['values'][0]).toBe(1)
    expect(await displayOf('i1')).toBe(a)
    expect(asked).toEqual(['/api/v1/items/i1/display'])
  })
  test('is asked for again after it failed', async () => {
    failing = true
    await expect(displayOf('i2')).rejects.toThrow('500')
    failing = false
    expect((await displayOf('i2'))['values'][0]).toBe(2)
  })
  test('the latest forty are kept; what was used lately outlives what was not', async () => {
    for (let k = 3; k <= 41; k++) {
      await displayOf(`i${k}`)
      await displayOf('i1')
    }
    const before = asked.length
    await displayOf('i1')
    expect(asked.length).toBe(before)
    await displayOf('i2')
    expect(asked.length).toBe(before + 1)
  })
})

describe('a preview', () => {
  const left: string[] = []
  /** The server: answers when it is let, and not at all to who has hung up. */
  let answer = (): void => undefined
  const serve = () => {
    globalThis.fetch = jest.fn((url: unknown, init?: RequestInit) => {
      left.push(String(url))
      return new Promise<Response>((resolve, reject) => {
        init?.signal?.addEventListener('abort', () => reject(new Error('aborted')))
        answer = () => resolve(/items$/.test(String(url)) ? Response.json([{ id: 'i1', port: 'passes', place: 0 }]) : new Response(container(1)))
      })
    })
  }
  const asked = async (url: string) => {
    while (left.at(-1) !== url) await new Promise((r) => setTimeout(r))
  }
  test('that is forgotten while it is read is not asked for any more, and nobody is told of an error', async () => {
    serve()
    const read = previewOf('j', 's1', () => 'slot')
    await asked('/api/v1/jobs/j/steps/s1/items')
    answer()
    await asked('/api/v1/items/i1/display')
    forgetPreview('s1')
    expect(await read).toBeNull()
    const before = left.length
    // nor one that is drawn only after it was forgotten
    expect(await previewOf('j', 's1', () => 'slot')).toBeNull()
    expect(left.length).toBe(before)
  })
  test('that cannot be read says so', async () => {
    globalThis.fetch = jest.fn(() => Promise.reject(new Error('no connection')))
    await expect(previewOf('j', 's2', () => 'slot')).rejects.toThrow('no connection')
    globalThis.fetch = jest.fn((url: unknown) =>
      Promise.resolve(/items$/.test(String(url)) ? Response.json([{ id: 'i1', port: 'passes', place: 0 }]) : new Response(null, { status: 404 })),
    )
    await expect(previewOf('j', 's2', () => 'slot')).rejects.toThrow('404')
  })
})
