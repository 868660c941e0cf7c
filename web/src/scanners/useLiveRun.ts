import { useEffect, useState } from 'react'
import { API, addressOf, type RunState } from '@oak-gauge/contract'
import { useScannerRunQuery } from '../api.ts'

const ENDPOINTS = { mapping: API.mapping, capture: API.capture }
type Kind = keyof typeof ENDPOINTS
type Run<K extends Kind> = Extract<RunState, { kind: K }>

export const isOver = (r: { phase: string }) => r.phase === 'done' || r.phase === 'failed'

/** What of that kind is going on with a scanner, followed as it happens; null: nothing. */
export function useLiveRun<K extends Kind>(scanner: string | null, kind: K): Run<K> | null {
  const { data } = useScannerRunQuery(scanner ?? '', { skip: !scanner })
  const [live, setLive] = useState<Run<K> | null>(null)
  const run = data?.kind === kind ? (data as Run<K>) : null
  const open = run !== null && !isOver(run)
  useEffect(() => {
    if (!open || !scanner) return
    const stop = new AbortController()
    let after = -1
    void (async () => {
      while (!stop.signal.aborted) {
        try {
          const r = await fetch(addressOf(ENDPOINTS[kind], { id: scanner }, { after: String(after) }), { signal: stop.signal })
          if (r.status !== 200) return
          const m = (await r.json()) as Run<K>
          after = m.sequence
          setLive(m)
          if (isOver(m)) return
          // ten pictures a second are enough for an eye
          await new Promise((resolve) => setTimeout(resolve, 100))
        } catch {
          if (stop.signal.aborted) return
          await new Promise((resolve) => setTimeout(resolve, 1000))
        }
      }
    })()
    return () => stop.abort()
  }, [open, scanner, kind])
  if (!run) return null
  // what was asked for last knows most, except while it streams
  return open && live && live.sequence >= run.sequence ? live : run
}
