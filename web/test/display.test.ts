/** @jest-environment ./web/test/browser-env.mjs */
import { describe, expect, jest, test } from '@jest/globals'
import { packHeader } from '@oak-gauge/contract'
import { displayOf } from '../src/view/display.ts'

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
    expect(asked).toEqual(['/api/items/i1/display'])
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
