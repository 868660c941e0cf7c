import { afterEach, describe, expect, test } from '@jest/globals'
import { scannerAddress } from '../src/scanners/address.ts'
import { listensTo } from '../src/listen.ts'

const code = (f: () => unknown): string => {
  try {
    f()
    return ''
  } catch (e) {
    return (e as { code?: string }).code ?? (e as Error).message
  }
}
afterEach(() => {
  delete process.env['OAK_SCANNER_HOSTS']
  delete process.env['OAK_TRUSTED_NETWORK']
})

describe('where a scanner may be', () => {
  test.each(['ws://127.0.0.1:4190', 'ws://localhost:1', 'wss://[::1]:4190/x'])('on this machine: %s', (a) => expect(scannerAddress(a)).toBe(a))
  test.each(['ws://10.0.0.7:4190', 'ws://example.org', 'http://127.0.0.1', 'ws://me:secret@127.0.0.1:1', 'ws://127.0.0.1.example.org', 'ws://', 'x'])(
    'not %s',
    (a) => expect(code(() => scannerAddress(a))).toBe('wrong-address'),
  )
  test('and on hosts that whoever starts the program names', () => {
    process.env['OAK_SCANNER_HOSTS'] = 'arm.workshop, 10.0.0.7'
    expect(scannerAddress('ws://10.0.0.7:4190')).toContain('10.0.0.7')
    expect(scannerAddress('ws://ARM.workshop')).toContain('ARM')
    expect(code(() => scannerAddress('ws://10.0.0.8:4190'))).toBe('wrong-address')
  })
})

describe('where the server listens', () => {
  test('on loopback; on the network only if that is said to be trusted, as there are no accounts', () => {
    for (const host of ['127.0.0.1', 'localhost', '::1', '127.1.2.3']) expect(listensTo(host)).toBe(host)
    for (const host of ['0.0.0.0', '::', '192.168.1.4', 'workshop']) expect(code(() => listensTo(host))).toMatch(/OAK_TRUSTED_NETWORK=1/)
    process.env['OAK_TRUSTED_NETWORK'] = '1'
    expect(listensTo('0.0.0.0')).toBe('0.0.0.0')
  })
})
