import { WebSocket, type RawData } from 'ws'
import {
  fromScanner,
  LINK_CLOSE,
  LINK_PATIENCE,
  LINK_PROTOCOL,
  LINK_SUBPROTOCOL,
  LINK_TIMES,
  unpackFrame,
  type FromScanner,
  type Hello,
  type LinkFrame,
  type ScannerState,
  type ToScanner,
} from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'

type Command = Exclude<ToScanner, { type: 'welcome' | 'credit' }>
/** A command without its number. */
export type Order = Command extends infer C ? (C extends Command ? Omit<C, 'id'> : never) : never

export interface LinkEvents {
  state?(s: ScannerState): void
  event?(e: Extract<FromScanner, { type: 'event' }>): void
  /** images and points; the next ones are asked for when this has come to its end */
  frame?(f: LinkFrame): void | Promise<void>
  /** the connection is over. Not called after close() */
  lost?(why: OakError): void
}

export interface Link {
  hello: Hello
  /** Sends a command; settles when the scanner has carried it out. Throws OakError 'refused' or 'no-answer'. */
  order(o: Order): Promise<void>
  close(): void
}

/** frames that may be under way: enough to keep the wire busy, few enough that a slow reader is felt at once */
const CREDIT = 6

/**
 * Connects to a scanner. Throws OakError: 'no-scanner' (nothing listens there), 'in-use', 'no-hello', 'not-understood'. A scanner that falls
 * silent, sends garbage or ends is reported through lost(), with what to do.
 */
export function openLink(address: string, events: LinkEvents): Promise<Link> {
  return new Promise((resolve, reject) => {
    let socket: WebSocket
    try {
      socket = new WebSocket(address, LINK_SUBPROTOCOL, { handshakeTimeout: LINK_TIMES.hello, maxPayload: 256 << 20, perMessageDeflate: false })
    } catch (e) {
      reject(new OakError('no-scanner', 'This is no address of a scanner.', { where: address, remedy: 'Write it as ws://host:port.', cause: e }))
      return
    }
    socket.binaryType = 'nodebuffer'
    let hello: Hello | undefined
    let over = false
    let garbage = 0
    let number = 0
    const open = new Map<number, { done(): void; failed(e: OakError): void; timer: NodeJS.Timeout }>()
    const end = (why: OakError) => {
      if (over) return
      over = true
      clearTimeout(watch)
      for (const c of open.values()) {
        clearTimeout(c.timer)
        c.failed(why)
      }
      open.clear()
      if (socket.readyState === socket.OPEN) socket.close(LINK_CLOSE.garbage)
      else socket.terminate()
      if (hello) events.lost?.(why)
      else reject(why)
    }
    const silence = () =>
      end(
        hello
          ? new OakError('silent', 'The scanner has fallen silent.', {
              where: address,
              remedy: 'Look at its cable and its lamp. It is connected again by itself when it answers.',
            })
          : new OakError('no-hello', 'Something listens there, but it does not speak the scanner link.', {
              where: address,
              remedy: 'Check the address; see docs/scanner-link.md.',
            }),
      )
    let watch = setTimeout(silence, LINK_TIMES.hello)
    let words = 0
    const heard = () => {
      words++
      clearTimeout(watch)
      if (!over) watch = setTimeout(isSilent, LINK_TIMES.silence)
    }
    // a process that stood itself finds its timers due before it has read what came meanwhile
    const isSilent = () => {
      const before = words
      setImmediate(() => before === words && silence())
    }
    const oddity = (what: string) => {
      garbage++
      // the first is forgiven: a frame may be cut when a cable is touched
      if (garbage >= LINK_PATIENCE)
        end(
          new OakError('garbage', 'The scanner sends what cannot be understood.', {
            where: what.slice(0, 200),
            remedy: 'Switch it off and on. If it stays, run ./oak link-check on its address.',
          }),
        )
    }
    const link = (h: Hello): Link => ({
      hello: h,
      order(o) {
        if (over) return Promise.reject(new OakError('no-scanner', 'The scanner is not connected.', { remedy: 'Wait until it is connected again.' }))
        const id = ++number
        const measuring = o.type === 'shot' || o.type === 'image'
        return new Promise<void>((done, failed) => {
          const timer = setTimeout(
            () => {
              open.delete(id)
              failed(new OakError('no-answer', `The scanner does not answer (${o.type}).`, { remedy: 'Try again; if it stays, switch it off and on.' }))
            },
            measuring ? LINK_TIMES.measure : LINK_TIMES.answer,
          )
          open.set(id, { done, failed, timer })
          socket.send(JSON.stringify({ ...o, id }))
        })
      },
      close() {
        over = true
        clearTimeout(watch)
        for (const c of open.values()) {
          clearTimeout(c.timer)
          c.failed(new OakError('no-scanner', 'The connection was ended.'))
        }
        open.clear()
        socket.close(1000)
        // who does not answer the farewell is not waited for
        setTimeout(() => socket.terminate(), 500).unref()
      },
    })
    const answer = (m: FromScanner) => {
      if (m.type === 'hello') {
        if (hello) return oddity('a second hello')
        hello = m
        socket.send(JSON.stringify({ type: 'welcome', protocol: LINK_PROTOCOL, program: 'Oak Gauge' } satisfies ToScanner))
        socket.send(JSON.stringify({ type: 'credit', frames: CREDIT } satisfies ToScanner))
        resolve(link(m))
      } else if (!hello) oddity(`${m.type} before hello`)
      else if (m.type === 'state') events.state?.(m)
      else if (m.type === 'event') events.event?.(m)
      else {
        const c = open.get(m.id)
        open.delete(m.id)
        if (!c) return
        clearTimeout(c.timer)
        if (m.type === 'done') c.done()
        else c.failed(new OakError('refused', m.message, { where: m.code, remedy: 'The scanner refused this command.' }))
      }
    }
    socket.on('message', (data: RawData, binary) => {
      if (over) return
      heard()
      const bytes = data as Buffer
      if (binary) {
        let f: LinkFrame
        try {
          f = unpackFrame(bytes)
        } catch (e) {
          return oddity(e instanceof Error ? e.message : 'frame')
        }
        void Promise.resolve(events.frame?.(f)).finally(() => {
          if (!over) socket.send(JSON.stringify({ type: 'credit', frames: 1 } satisfies ToScanner))
        })
        return
      }
      const text = bytes.toString()
      try {
        answer(fromScanner.parse(JSON.parse(text)))
      } catch {
        oddity(text)
      }
    })
    socket.on('error', (e) =>
      end(new OakError('no-scanner', 'No scanner answers at this address.', { where: address, remedy: 'Switch it on, and check the address.', cause: e })),
    )
    socket.on('close', (code, reason) =>
      end(
        code === LINK_CLOSE.inUse
          ? new OakError('in-use', 'The scanner is in use by another program.', { where: address, remedy: 'Disconnect it there.' })
          : new OakError('gone', 'The connection to the scanner broke off.', {
              where: reason.toString() || address,
              remedy: 'Nothing that was taken is lost. It is connected again by itself when it answers.',
            }),
      ),
    )
  })
}
