import { WebSocket } from 'ws'
import { fromScanner, LINK_SUBPROTOCOL, LINK_TIMES, unpackFrame, type FromScanner, type LinkFrame, type ScannerState } from '@oak-gauge/contract'
import { openLink } from './client.ts'

export interface CheckLine {
  what: string
  ok: boolean
  /** what was seen instead, or a figure */
  note: string
}

/**
 * Asks a bridge everything the scanner link promises, and says line by line whether it keeps it. Nothing is measured for good: the
 * exposure and the calibration are put back.
 */
export async function checkLink(address: string, say: (l: CheckLine) => void): Promise<boolean> {
  let good = true
  const line = (what: string, ok: boolean, note = '') => {
    good &&= ok
    say({ what, ok, note })
  }
  const pause = (ms: number) => new Promise((r) => setTimeout(r, ms))
  const states: ScannerState[] = []
  const frames: LinkFrame[] = []
  let lost = ''
  let link
  const began = performance.now()
  try {
    link = await openLink(address, { state: (s) => states.push(s), frame: (f) => void frames.push(f), lost: (e) => (lost = e.message) })
  } catch (e) {
    line('says hello', false, e instanceof Error ? e.message : '')
    return false
  }
  const { hello } = link
  line('says hello', true, `${hello.name}, ${hello.model}, after ${Math.round(performance.now() - began)} ms`)
  const { near, ideal, far } = hello.spec.range
  line('its working range is in order', near < ideal && ideal < far, `${near}, ${ideal}, ${far} mm`)
  line('its calibration is near its design', Math.abs(hello.calibration.stereo.left.fx / hello.spec.design.left.fx - 1) < 0.05)
  await pause(2500)
  line('tells its state at least each 2 s', states.length >= 2, `${states.length} in 2.5 s`)
  line('its clock goes on', states.length >= 2 && states[states.length - 1].time > states[0].time)
  const order = async (what: string, o: Parameters<typeof link.order>[0], expect: 'done' | 'refused') => {
    try {
      await link.order(o)
      line(what, expect === 'done', expect === 'done' ? '' : 'done, where it should have refused')
    } catch (e) {
      const refused = (e as { code?: string }).code === 'refused'
      line(what, expect === 'refused' && refused, e instanceof Error ? e.message : '')
    }
  }
  const before = states[states.length - 1]
  await order('sets its exposure', { type: 'set', exposure: 1.25 }, 'done')
  await pause(1500)
  line('tells the exposure that was set', Math.abs((states[states.length - 1]?.exposure ?? 0) - 1.25) < 1e-6)
  if (before) await order('puts the exposure back', { type: 'set', exposure: before.exposure }, 'done')
  await order('refuses a pattern it does not have', { type: 'set', pattern: 'no such pattern' }, 'refused')
  if (!hello.spec.turntable) await order('refuses to turn a table it does not have', { type: 'turn', degrees: 10 }, 'refused')
  else await order('turns its table', { type: 'turn', degrees: 0 }, 'done')
  await order('takes a calibration', { type: 'use-calibration', calibration: hello.calibration }, 'done')
  await order('takes a pair of images', { type: 'image' }, 'done')
  await pause(300)
  const images = frames.filter((f) => f.kind === 'image')
  line(
    'sends a left and a right image of one moment',
    images.length === 2 && images[0].side !== images[1].side && images[0].sequence === images[1].sequence,
    `${images.length} images`,
  )
  line(
    'images have the size its optics say',
    images.length > 0 &&
      images.every((f) => f.kind === 'image' && f.width === hello.spec.design[f.side].width && f.height === hello.spec.design[f.side].height),
  )
  frames.length = 0
  await order('takes a shot of points', { type: 'shot', frames: 2 }, 'done')
  await pause(300)
  const points = frames.filter((f) => f.kind === 'points')
  line('sends as many frames of points as were asked for', points.length === 2, `${points.length} of 2`)
  line(
    'points are finite',
    points.every((f) => f.xyz.every((v) => Number.isFinite(v))),
    `${points.reduce((s, f) => s + f.count, 0)} points`,
  )
  line('stays connected', lost === '', lost)
  link.close()
  await pause(300)
  await withoutCredit(address, line)
  await garbage(address, line)
  return good
}

/** A program that grants no credit gets no frame, and the scanner goes on all the same. */
async function withoutCredit(address: string, line: (what: string, ok: boolean, note?: string) => void): Promise<void> {
  const seen: FromScanner[] = []
  let frames = 0
  const socket = await rawSocket(address)
  if (!socket) return line('can be connected to again', false)
  line('can be connected to again', true)
  socket.on('message', (data: Buffer, binary) => {
    if (binary) {
      frames++
      unpackFrame(data)
    } else {
      const r = fromScanner.safeParse(JSON.parse(data.toString()))
      if (r.success) seen.push(r.data)
    }
  })
  socket.send(JSON.stringify({ type: 'welcome', protocol: 1, program: 'link check' }))
  socket.send(JSON.stringify({ type: 'mode', id: 1, mode: 'images' }))
  await new Promise((r) => setTimeout(r, 2500))
  line('sends no frame without credit', frames === 0, `${frames} frames`)
  line(
    'goes on telling its state meanwhile',
    seen.some((m) => m.type === 'state'),
  )
  const before = frames
  socket.send(JSON.stringify({ type: 'credit', frames: 2 }))
  await new Promise((r) => setTimeout(r, 3000))
  line('sends as many frames as the credit allows', frames - before === 2, `${frames - before} of 2`)
  socket.close()
  await new Promise((r) => setTimeout(r, 300))
}

async function garbage(address: string, line: (what: string, ok: boolean, note?: string) => void): Promise<void> {
  const socket = await rawSocket(address)
  if (!socket) return line('can be connected to a third time', false)
  let refused = false
  let closed = false
  socket.on('message', (data: Buffer, binary) => {
    if (!binary) refused ||= (JSON.parse(data.toString()) as { type?: string; id?: number }).type === 'refused'
  })
  socket.on('close', () => (closed = true))
  socket.send(JSON.stringify({ type: 'sing', id: 7 }))
  await new Promise((r) => setTimeout(r, 700))
  line('refuses a command it does not know, and stays', refused && !closed)
  for (let k = 0; k < 4; k++) if (socket.readyState === socket.OPEN) socket.send('{')
  await new Promise((r) => setTimeout(r, 700))
  line('hangs up on a program that sends garbage', closed)
  socket.terminate()
}

function rawSocket(address: string): Promise<WebSocket | undefined> {
  return new Promise((resolve) => {
    const s = new WebSocket(address, LINK_SUBPROTOCOL)
    s.on('open', () => resolve(s))
    s.on('error', () => resolve(undefined))
    setTimeout(() => resolve(undefined), LINK_TIMES.hello)
  })
}
