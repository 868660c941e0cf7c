import type { ServerEvent } from '@oak-gauge/contract'
import { api } from './api.ts'
import { progressSlice } from './progress.ts'

/** Listens to the server for as long as the page is open; the browser connects again by itself. */
export function listen(store: { dispatch: (a: never) => unknown }): void {
  const dispatch = store.dispatch as (a: unknown) => void
  const source = new EventSource('/api/events')
  let lost = false
  source.onopen = () => {
    dispatch(progressSlice.actions.connection(true))
    // what happened while we were away
    if (lost) dispatch(api.util.invalidateTags(['Jobs', 'Job', 'Scanners', 'Scanner']))
    lost = false
  }
  source.onerror = () => {
    lost = true
    dispatch(progressSlice.actions.connection(false))
  }
  source.onmessage = (m: MessageEvent<string>) => {
    const e = JSON.parse(m.data) as ServerEvent
    if (e.type === 'progress') dispatch(progressSlice.actions.progressed(e))
    else if (e.type === 'scanner') dispatch(api.util.invalidateTags(['Scanners', { type: 'Scanner', id: e.scanner }]))
    else dispatch(api.util.invalidateTags(['Jobs', { type: 'Job', id: e.job }]))
  }
}
