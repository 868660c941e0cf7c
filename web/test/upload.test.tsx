/** @jest-environment ./web/test/browser-env.mjs */
import { afterEach, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { act, cleanup, fireEvent, screen, waitFor } from '@testing-library/react'
import type { OpenUpload } from '@oak-gauge/contract'
import { click, doing, fakeServer, jobOf, show, uuid, type Sent } from './help.tsx'

interface Options {
  uploadUrl?: string
  metadata: Record<string, string>
  onShouldRetry(e: object): boolean
  onUploadUrlAvailable(): void
  onProgress(sent: number, total: number): void
  onSuccess(): void
  onError(e: object): void
}
/** What the library would send; the test plays the line. */
const sending: { file: File; options: Options; url: string | null; aborted: boolean }[] = []
jest.unstable_mockModule('tus-js-client', () => ({
  Upload: class {
    url: string | null = null
    aborted = false
    file: File
    options: Options
    constructor(file: File, options: Options) {
      this.file = file
      this.options = options
      this.url = options.uploadUrl ?? null
    }
    start() {
      sending.push(this)
    }
    abort() {
      this.aborted = true
      return Promise.resolve()
    }
  },
}))
const { CaptureCard } = await import('../src/stages/capture/CaptureCard.tsx')

const answered = (status: number, body = '') => ({ originalResponse: { getStatus: () => status, getBody: () => body } })
let sent: Sent[] = []
let known: OpenUpload[] = []
const files = [new File(['1 2 3'], 'one.xyz', { lastModified: 5 }), new File(['4 5 6'], 'two.xyz', { lastModified: 6 })]
const drop = async () => {
  const { container } = show(<CaptureCard go={() => undefined} />, jobOf([]))
  await doing(() => undefined)
  await doing(() => void fireEvent.drop(container.querySelector('.drop') as Element, { dataTransfer: { files } }))
  await sends(1)
}
const sends = (n: number) => waitFor(() => expect(sending).toHaveLength(n))
beforeEach(() => {
  known = []
  sending.length = 0
  sent = fakeServer((s) => (s.path.endsWith('/uploads') ? { body: known } : s.method === 'DELETE' ? { status: 204 } : undefined))
})
afterEach(cleanup)
const half = (more: Partial<OpenUpload> = {}): OpenUpload => ({
  ...{ id: uuid(70), name: 'one.xyz', size: 5, bytes: 3, role: null, setup: uuid(12), modified: 5, idle: 400 },
  ...more,
})

describe('files that are dropped', () => {
  test('are sent one after the other, into the chosen setup', async () => {
    await drop()
    expect(sending.map((s) => s.file.name)).toEqual(['one.xyz'])
    expect(sending[0].options.metadata).toEqual({ job: uuid(1), name: 'one.xyz', modified: '5', setup: uuid(12) })
    act(() => sending[0].options.onProgress(2, 4))
    expect(screen.getByText(/50 % of/)).toBeTruthy()
    await doing(() => sending[0].options.onSuccess())
    await sends(2)
    expect(screen.queryByText('one.xyz')).toBeNull()
    expect(sending.map((s) => s.file.name)).toEqual(['one.xyz', 'two.xyz'])
    await click('Stop')
    expect(sending[1].aborted).toBe(true)
    expect(screen.queryByText('two.xyz')).toBeNull()
  })
  test('wait while the server is away, and say what it refuses in its words', async () => {
    await drop()
    const [{ options }] = sending
    let again = false
    act(() => void (again = options.onShouldRetry({ originalResponse: null })))
    expect(again).toBe(true)
    expect(screen.getByText('waits for the server')).toBeTruthy()
    act(() => options.onProgress(1, 4))
    expect(screen.getByText(/25 % of/)).toBeTruthy()
    const asked: boolean[] = []
    act(() => [503, 423, 409, 507, 413, 404].forEach((status) => asked.push(options.onShouldRetry(answered(status)))))
    expect(asked).toEqual([true, true, true, false, false, false])
    await doing(() => options.onError(answered(507, JSON.stringify({ code: 'disk-full', detail: 'The disk is full.', where: '', remedy: 'Make room.' }))))
    expect(screen.getByRole('alert').textContent).toContain('Make room.')
    await click('Close')
    await sends(2)
    await doing(() => sending[1].options.onError({}))
    expect(screen.getByRole('alert').textContent).toContain('kept for a day')
    await click('Close')
  })
})

describe('files of which a part has come', () => {
  test('are shown, and can be forgotten', async () => {
    known = [half(), half({ id: uuid(71), name: 'elsewhere.xyz', idle: 2 })]
    show(<CaptureCard go={() => undefined} />, jobOf([]))
    await screen.findByText('one.xyz')
    expect(screen.getAllByText(/60 % of/)).toHaveLength(2)
    expect(screen.getByText(/Choose the file again/)).toBeTruthy()
    expect(screen.getByText('Another window is sending it.')).toBeTruthy()
    await doing(() => void fireEvent.click(screen.getAllByRole('button', { name: 'Forget' })[0]))
    expect(sent.find((s) => s.method === 'DELETE')?.path).toBe(`uploads/${uuid(70)}`)
  })
  test('go on when the same file is chosen for the same place; another one of that name begins anew', async () => {
    known = [half()]
    await drop()
    expect(sending[0].options.uploadUrl).toBe(`/api/v1/uploads/${uuid(70)}`)
    expect(screen.getByText(/60 % of/)).toBeTruthy()
    await doing(() => sending[0].options.onSuccess())
    await sends(2)
    await doing(() => sending[1].options.onSuccess())
    cleanup()
    for (const other of [{ size: 6 }, { modified: 9 }, { role: 'nominal' as const }, { setup: null }]) {
      sending.length = 0
      known = [half(other)]
      await drop()
      expect([other, sending[0]?.options.uploadUrl]).toEqual([other, undefined])
      await doing(() => sending[0].options.onSuccess())
      await sends(2)
      await doing(() => sending[1].options.onSuccess())
      cleanup()
    }
  })
})
