import { api } from '../api.ts'
import { progressSlice } from '../progress.ts'
import { openSource, type Heard } from './source.ts'

const EVERYTHING = ['Jobs', 'Job', 'Scanners', 'Scanner'] as const
/** ms */
const AGAIN = 2000

/** Listens to the server for as long as the page is open. While nothing is heard, what is shown is asked for every few seconds. */
export function listen(store: { dispatch: (a: never) => unknown }): void {
  const dispatch = store.dispatch as (a: unknown) => void
  const askForAll = () => dispatch(api.util.invalidateTags([...EVERYTHING]))
  let asking: ReturnType<typeof setInterval> | undefined
  hear((h) => {
    if ('open' in h) {
      dispatch(progressSlice.actions.connection(h.open))
      if (!h.open) asking ??= setInterval(askForAll, AGAIN)
      else {
        // what happened while we were away
        if (asking) askForAll()
        clearInterval(asking)
        asking = undefined
      }
      return
    }
    const e = h.event
    if (e.type === 'everything') askForAll()
    else if (e.type === 'progress') dispatch(progressSlice.actions.progressed(e))
    else if (e.type === 'scanner') dispatch(api.util.invalidateTags(['Scanners', { type: 'Scanner', id: e.scanner }]))
    else if (e.type === 'changed') dispatch(api.util.invalidateTags(['Jobs', { type: 'Job', id: e.job }]))
  })
}

/** By the line that all windows share; where a browser has no such thing, or it does not begin, by one of its own. */
function hear(tell: (h: Heard) => void): void {
  if (!('SharedWorker' in globalThis)) return openSource(tell)
  let worker: SharedWorker
  try {
    worker = new SharedWorker(new URL('./sharedworker.ts', import.meta.url), { type: 'module', name: 'Oak Gauge' })
  } catch {
    // forbidden, such as by settings of privacy
    return openSource(tell)
  }
  const { port } = worker
  let speaks = false
  port.onmessage = (m: MessageEvent<Heard>) => {
    speaks = true
    tell(m.data)
  }
  worker.onerror = () => {
    if (speaks) return
    // its script did not come, or broke as it began
    speaks = true
    openSource(tell)
  }
  addEventListener('pagehide', () => port.postMessage('gone'))
  // a page that the browser had put aside, and shows again
  addEventListener('pageshow', (e) => {
    if (!e.persisted) return
    port.postMessage('back')
    tell({ event: { type: 'everything' } })
  })
}
