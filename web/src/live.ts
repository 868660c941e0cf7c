import type { ServerEvent } from '@oak-gauge/contract'
import { API, addressOf } from '@oak-gauge/contract'
import { api } from './api.ts'
import { progressSlice } from './progress.ts'

const EVERYTHING = ['Jobs', 'Job', 'Scanners', 'Scanner'] as const
/** ms */
const AGAIN = 2000

/** Listens to the server for as long as the page is open. While nothing is heard, what is shown is asked for every few seconds. */
export function listen(store: { dispatch: (a: never) => unknown }): void {
  const dispatch = store.dispatch as (a: unknown) => void
  const askForAll = () => dispatch(api.util.invalidateTags([...EVERYTHING]))
  let asking: ReturnType<typeof setInterval> | undefined
  const open = () => {
    const source = new EventSource(addressOf(API.events, {}))
    source.onopen = () => {
      dispatch(progressSlice.actions.connection(true))
      // what happened while we were away
      if (asking) askForAll()
      clearInterval(asking)
      asking = undefined
    }
    source.onerror = () => {
      dispatch(progressSlice.actions.connection(false))
      asking ??= setInterval(askForAll, AGAIN)
      // the browser connects again by itself after a break; after an answer that refuses it does not
      if (source.readyState === EventSource.CLOSED) setTimeout(open, AGAIN)
    }
    source.onmessage = (m: MessageEvent<string>) => {
      const e = JSON.parse(m.data) as ServerEvent
      if (e.type === 'progress') dispatch(progressSlice.actions.progressed(e))
      else if (e.type === 'scanner') dispatch(api.util.invalidateTags(['Scanners', { type: 'Scanner', id: e.scanner }]))
      else dispatch(api.util.invalidateTags(['Jobs', { type: 'Job', id: e.job }]))
    }
  }
  open()
}
