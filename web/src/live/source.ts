import { API, addressOf, type ServerEvent } from '@oak-gauge/contract'

/** What a page hears: whether the line stands, and what comes over it. */
export type Heard = { open: boolean } | { event: ServerEvent }

/** ms */
const AGAIN = 2000

/** Listens to the server for good. */
export function openSource(tell: (h: Heard) => void): void {
  const source = new EventSource(addressOf(API.events, {}))
  source.onopen = () => tell({ open: true })
  source.onerror = () => {
    tell({ open: false })
    // the browser connects again by itself after a break; after an answer that refuses it does not
    if (source.readyState === EventSource.CLOSED) setTimeout(() => openSource(tell), AGAIN)
  }
  source.onmessage = (m: MessageEvent<string>) => tell({ event: JSON.parse(m.data) as ServerEvent })
}
