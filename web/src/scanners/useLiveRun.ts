import { useEffect, useState } from 'react'
import { API, addressOf, type CaptureRun, type MappingRun } from '@oak-gauge/contract'
import { useScannerRunQuery } from '../api.ts'

const NEWEST = {
  mapping: (id: string, after: number) => addressOf(API.mapping, { id }, { after: String(after) }),
  capture: (id: string, after: number) => addressOf(API.capture, { id }, { after: String(after) }),
}
interface Runs {
  mapping: MappingRun
  capture: CaptureRun
}

export const isOver = (r: { phase: string }) => r.phase === 'done' || r.phase === 'failed'

/** What of that kind is going on with a scanner, followed as it happens; null: nothing. */
export function useLiveRun<K extends keyof Runs>(scanner: string | null, kind: K): Runs[K] | null {
  const { data } = useScannerRunQuery(scanner ?? '', { skip: !scanner })
  const [live, setLive] = useState<Runs[K] | null>(null)
  const run = data?.kind === kind ? (data as Runs[K]) : null
  const open = run !== null && !isOver(run)
  useEffect(() => {
    if (!open || !scanner) return
    const stop = new AbortController()
    let after = -1
    void (async () => {
      while (!stop.signal.aborted) {
        try {
          const r = await fetch(NEWEST[kind](scanner, after), { signal: stop.signal })
          if (r.status !== 200) return
          const m = (await r.json()) as Runs[K]
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
