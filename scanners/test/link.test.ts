import { afterEach, describe, expect, it } from '@jest/globals'
import { WebSocketServer } from 'ws'
import { fromScanner, LINK_TIMES, packFrame, toScanner, unpackFrame, type LinkFrame } from '@oak-gauge/contract'
import { BALL_BARS, PLATES } from '../src/artefacts.ts'
import { checkLink } from '../src/check.ts'
import { openLink, type Link } from '../src/client.ts'
import { startClock } from '../src/clock.ts'
import { DEVICES } from '../src/devices.ts'
import { serve } from '../src/serve.ts'
import { StandIn } from '../src/standin.ts'

const ends: (() => unknown)[] = []
afterEach(async () => {
  for (const e of ends.splice(0).reverse()) await e()
})
const warm = (key: string) => new StandIn(DEVICES[key], { drops: 0, made: Date.now() - 1e9, calibration: null }, startClock(1, 36e6))
async function up(key = 'alder') {
  const device = warm(key)
  let lasting = 0
  const s = await serve(device, 0, () => lasting++)
  ends.push(() => s.close())
  return { device, address: `ws://127.0.0.1:${s.port}`, lasting: () => lasting }
}
async function linked(address: string, events: Parameters<typeof openLink>[1] = {}): Promise<Link> {
  const l = await openLink(address, events)
  ends.push(() => l.close())
  return l
}
/** Keeps this thread from everything else. */
function stand(ms: number): void {
  const end = performance.now() + ms
  while (performance.now() < end);
}
const pause = (ms: number) => new Promise((r) => setTimeout(r, ms))

describe('frames', () => {
  const head = { kind: 'points' as const, sequence: 4, time: 1.5, count: 3, intensity: true, colour: true, markers: 1 }
  const arrays = [Float32Array.of(1, 2, 3, 4, 5, 6, 7, 8, 9), Uint8Array.of(10, 20, 30), Uint8Array.of(1, 2, 3, 4, 5, 6, 7, 8, 9), Float32Array.of(1, 2, 3, 6)]
  it('come out as they went in', () => {
    const f = unpackFrame(packFrame(head, arrays)) as Extract<LinkFrame, { kind: 'points' }>
    expect([[...f.xyz], [...f.brightness!], [...f.rgb!], [...f.seenMarkers!]]).toEqual(arrays.map((a) => [...a]))
    const i = unpackFrame(packFrame({ kind: 'image', sequence: 1, time: 0, side: 'left', width: 2, height: 2 }, [Uint8Array.of(1, 2, 3, 4)]))
    expect(i.kind === 'image' && [...i.data]).toEqual([1, 2, 3, 4])
  })
  it.each<[string, (b: Uint8Array) => Uint8Array]>([
    ['too short', (b) => b.slice(0, 9)],
    ['no magic', (b) => (b.fill(0, 0, 4), b)],
    ['cut', (b) => b.slice(0, b.length - 20)],
    ['another version', (b) => ((b[4] = 9), b)],
    ['a head that is none', (b) => (b.fill(33, 16, 30), b)],
  ])('%s: refused', (_, spoil) => expect(() => unpackFrame(spoil(packFrame(head, arrays)))).toThrow())
})

describe('a stand-in on the link', () => {
  it('keeps every promise of the conformance check', async () => {
    const { address } = await up('hazel')
    const broken: string[] = []
    let lines = 0
    const good = await checkLink(address, (l) => {
      lines++
      if (!l.ok) broken.push(`${l.what} (${l.note})`)
    })
    expect([good, broken, lines > 20]).toEqual([true, [], true])
  }, 60_000)

  it('says hello and its state, takes a calibration, and reports a knock and its button', async () => {
    const { address, device, lasting } = await up()
    const events: string[] = []
    const l = await linked(address, { event: (e) => events.push(e.event) })
    expect(l.hello).toMatchObject({ name: 'Alder', serial: 'AL-0417', standIn: { clock: 1 } })
    await l.order({ type: 'use-calibration', calibration: { id: 'c7', stereo: l.hello.spec.design } })
    expect(device.lasting.calibration?.id).toBe('c7')
    await l.order({ type: 'drop' })
    await l.order({ type: 'press' })
    await pause(50)
    expect([events, device.lasting.drops, lasting()]).toEqual([['shock', 'button'], 1, 2])
  })

  it('sends all frames of a shot before it says done, however slowly they are taken', async () => {
    const { address } = await up()
    let frames = 0
    const l = await linked(address, {
      frame: async () => {
        await pause(30)
        frames++
      },
    })
    await l.order({ type: 'bench', things: [{ kind: 'bar', bar: BALL_BARS[0], pose: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 420, 0, 0, 0, 1] }] })
    await l.order({ type: 'shot', frames: 14 })
    await pause(300)
    expect(frames).toBe(14)
  }, 30_000)

  it('says how it is while a long shot goes on, and ends one that nobody waits for', async () => {
    const { address, device } = await up()
    let made = 0
    // eslint-disable-next-line require-yield
    device.shotFrame = function* () {
      made++
      stand(300)
    }
    let states = 0
    const l = await linked(address, { state: () => states++ })
    const before = states
    await l.order({ type: 'shot', frames: 8 })
    expect([made, states - before > 0]).toEqual([8, true])
    const broken = l.order({ type: 'shot', frames: 50 }).catch(() => 'over')
    await pause(400)
    l.close()
    expect(await broken).toBe('over')
    await pause(1200)
    expect(made).toBeLessThan(20)
  }, 30_000)

  it('refuses what it cannot do, with a reason', async () => {
    const { address } = await up()
    const l = await linked(address)
    await expect(l.order({ type: 'turn', degrees: 3 })).rejects.toMatchObject({ code: 'refused', message: 'This scanner has no turntable.' })
    await expect(l.order({ type: 'mode', mode: 'record' })).rejects.toMatchObject({ code: 'refused' })
    await expect(l.order({ type: 'bench', things: [{ kind: 'anvil' }] })).rejects.toMatchObject({ code: 'refused' })
  })

  it('speaks with one at a time', async () => {
    const { address } = await up()
    await linked(address)
    await expect(openLink(address, {})).rejects.toMatchObject({ code: 'in-use' })
  })

  it('shows the same plate in both images', async () => {
    const { address } = await up()
    const seen: LinkFrame[] = []
    const l = await linked(address, { frame: (f) => void seen.push(f) })
    await l.order({ type: 'bench', things: [{ kind: 'plate', plate: PLATES[2], pose: [1, 0, 0, -108, 0, 1, 0, -72, 0, 0, 1, 400, 0, 0, 0, 1] }] })
    await l.order({ type: 'image' })
    expect(seen.map((f) => f.kind === 'image' && f.side)).toEqual(['left', 'right'])
    for (const f of seen) expect(f.kind === 'image' && f.data.filter((v) => v > 120).length > 50_000).toBe(true)
  })
})

describe('a scanner that misbehaves is said to', () => {
  /** A server that says hello as Alder does, and then what it likes. */
  async function rogue(then: (say: (d: string | Uint8Array) => void) => void, hello = true) {
    const server = new WebSocketServer({ host: '127.0.0.1', port: 0 })
    ends.push(() => {
      for (const c of server.clients) c.terminate()
      server.close()
    })
    server.on('connection', (s) => {
      if (hello) s.send(JSON.stringify(warm('alder').hello()))
      then((d) => s.send(d))
    })
    await new Promise((r) => server.on('listening', r))
    return `ws://127.0.0.1:${(server.address() as { port: number }).port}`
  }
  const lostOf = (address: string) =>
    new Promise<{ code: string; remedy: string }>((resolve, reject) => {
      openLink(address, { lost: resolve }).then((l) => ends.push(() => l.close()), reject)
    })
  it('garbage frames', async () => {
    const e = await lostOf(await rogue((say) => [1, 2, 3].forEach(() => say(Uint8Array.of(1, 2, 3)))))
    expect([e.code, e.remedy]).toEqual(['garbage', expect.stringMatching(/link-check/)])
  })
  it('silence', async () => expect((await lostOf(await rogue(() => undefined))).code).toBe('silent'), 10_000)
  it('but not when it was this process that stood while words of the scanner lay there', async () => {
    let lost = ''
    const address = await rogue((say) => {
      const state = JSON.stringify(warm('alder').state())
      setTimeout(() => {
        say(state)
        stand(LINK_TIMES.silence + 400)
      }, 300)
    })
    await linked(address, { lost: (e) => (lost = e.code) })
    // from before it stands until some time after
    await pause(LINK_TIMES.silence + 1500)
    expect(lost).toBe('')
    // and it is silent from then on
    await pause(LINK_TIMES.silence)
    expect(lost).toBe('silent')
  }, 15_000)
  it('no hello', async () => await expect(openLink(await rogue(() => undefined, false), {})).rejects.toMatchObject({ code: 'no-hello' }), 10_000)
  it('a process that dies', async () => {
    const { address } = await up()
    const gone = lostOf(address)
    await pause(100)
    await ends.shift()!()
    expect((await gone).code).toBe('gone')
  })
})

describe('messages', () => {
  it('are checked on both sides', () => {
    const hello = warm('rowan').hello()
    expect(fromScanner.parse(JSON.parse(JSON.stringify(hello)))).toEqual(hello)
    expect(fromScanner.safeParse({ ...hello, spec: { ...hello.spec, range: { near: -1, ideal: 2, far: 3 } } }).success).toBe(false)
    expect(toScanner.safeParse({ type: 'shot', id: 1, frames: 0 }).success).toBe(false)
  })
})
