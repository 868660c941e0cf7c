import { WebSocketServer, type WebSocket } from 'ws'
import { LINK_CLOSE, LINK_PATIENCE, LINK_PROTOCOL, LINK_SUBPROTOCOL, packFrame, toScanner, type FromScanner, type ToScanner } from '@oak-gauge/contract'
import { FLOW } from './devices.ts'
import { Refusal, type StandIn } from './standin.ts'

export interface Served {
  port: number
  close(): Promise<void>
}

/**
 * Puts a stand-in on the scanner link: listens on a port of this machine, speaks with one Oak Gauge at a time.
 * onLasting: called when something changed that must outlive this process.
 */
export function serve(device: StandIn, port: number, onLasting: () => void): Promise<Served> {
  const server = new WebSocketServer({
    host: '127.0.0.1',
    port,
    handleProtocols: (offered) => (offered.has(LINK_SUBPROTOCOL) ? LINK_SUBPROTOCOL : false),
    // a part that is put before it, as text
    maxPayload: 1 << 25,
  })
  let busy: WebSocket | undefined
  server.on('connection', (socket) => {
    if (busy) {
      socket.close(LINK_CLOSE.inUse, 'in use by another program')
      return
    }
    busy = socket
    socket.on('close', () => {
      if (busy === socket) busy = undefined
    })
    converse(device, socket, onLasting)
  })
  return new Promise((resolve, reject) => {
    server.on('error', reject)
    server.on('listening', () => {
      const at = server.address()
      resolve({
        port: typeof at === 'object' && at ? at.port : port,
        close: () =>
          new Promise((done) => {
            for (const c of server.clients) c.terminate()
            server.close(() => done())
          }),
      })
    })
  })
}

const turn = () => new Promise<void>((resolve) => setImmediate(resolve))

function converse(device: StandIn, socket: WebSocket, onLasting: () => void): void {
  let credit = 0
  let garbage = 0
  let queue: Exclude<ToScanner, { type: 'welcome' | 'credit' }>[] = []
  let working = false
  const waiting: Uint8Array[] = []
  const say = (m: FromScanner) => socket.readyState === socket.OPEN && socket.send(JSON.stringify(m))
  /** what is to be said when the last frame has gone: done means that all of them have been sent */
  let afterFrames: (() => void) | undefined
  const release = () => {
    while (credit > 0 && waiting.length) {
      credit--
      socket.send(waiting.shift()!)
    }
    if (waiting.length === 0 && afterFrames) {
      const f = afterFrames
      afterFrames = undefined
      f()
    }
  }
  const frame: Parameters<StandIn['obey']>[1] = (head, arrays) => {
    waiting.push(packFrame(head, arrays))
    release()
  }
  say(device.hello())
  say(device.state())
  const beat = setInterval(() => say(device.state()), 1000)
  // images flow as fast as they are asked for: the next pair is made when the last has gone
  const flow = setInterval(() => {
    if (device.streaming && credit >= 2 && waiting.length === 0 && !working) device.images(frame)
    if (device.aiming && credit >= 1 && waiting.length === 0 && !working) device.markers(frame)
    if (device.recording && credit >= 1 && waiting.length === 0 && !working) device.record(frame)
  }, FLOW)
  socket.on('close', () => {
    clearInterval(beat)
    clearInterval(flow)
    queue = []
    waiting.length = 0
    // who comes next finds it at rest
    try {
      device.obey({ type: 'mode', id: 0, mode: 'idle' }, () => undefined)
    } catch {
      // it was
    }
  })
  const work = () => {
    if (working) return
    const m = queue.shift()
    if (!m) return
    working = true
    void carryOut(m).then((end) => {
      afterFrames = () => {
        working = false
        end()
        work()
      }
      release()
    })
  }
  /** Carries out a command; what is to be said when its frames have gone. */
  const carryOut = async (m: (typeof queue)[number]): Promise<() => void> => {
    try {
      // a command, and a frame of a shot, at a turn of the loop: state messages and closing come in between, or a long shot would pass for silence
      await turn()
      if (m.type === 'shot')
        for (let k = 0; k < m.frames && socket.readyState === socket.OPEN; k++) {
          for (const _ of device.shotFrame(k, m.frames, frame)) await turn()
          await turn()
        }
      const { event } = m.type === 'shot' ? {} : device.obey(m, frame)
      return () => {
        say({ type: 'done', id: m.id })
        if (event) say({ type: 'event', event, time: device.now() })
        if (m.type === 'use-calibration' || m.type === 'drop') onLasting()
      }
    } catch (e) {
      const refusal =
        e instanceof Refusal ? { code: e.code, message: e.message } : { code: 'failed', message: e instanceof Error ? e.message.slice(0, 400) : 'it failed' }
      return () => say({ type: 'refused', id: m.id, ...refusal })
    }
  }
  socket.on('message', (data, binary) => {
    const bytes = data as Buffer
    const m = binary ? undefined : understood(bytes.toString())
    if (m === undefined || 'refuse' in m) {
      if (m?.refuse !== undefined) say({ type: 'refused', id: m.refuse, code: 'not-understood', message: m.why })
      else if (++garbage >= LINK_PATIENCE) socket.close(LINK_CLOSE.garbage, 'messages that are not understood')
      return
    }
    if (m.type === 'welcome') {
      if (m.protocol !== LINK_PROTOCOL) socket.close(LINK_CLOSE.protocol, 'another protocol is spoken here')
    } else if (m.type === 'credit') {
      credit = Math.min(1000, credit + m.frames)
      release()
    } else {
      queue.push(m)
      work()
    }
  })
}

/** The message; or, for one that has an id but is not understood, what to refuse; undefined for garbage. */
function understood(text: string): ToScanner | { refuse: number; why: string } | undefined {
  let raw: unknown
  try {
    raw = JSON.parse(text)
  } catch {
    return undefined
  }
  const r = toScanner.safeParse(raw)
  if (r.success) return r.data
  const id = (raw as { id?: unknown } | null)?.id
  return typeof id === 'number' && Number.isInteger(id) ? { refuse: id, why: r.error.issues[0]?.message ?? 'not understood' } : undefined
}
