import { useEffect, useState } from 'react'
import type { MappingRun } from '@oak-gauge/contract'
import { API, addressOf } from '@oak-gauge/contract'
import { useScannerRunQuery } from '../../api.ts'

/** The mapping that is going on with a scanner, followed as it happens; null: none. */
export function useMapping(scanner: string | null): MappingRun | null {
  const { data } = useScannerRunQuery(scanner ?? '', { skip: !scanner })
  const [live, setLive] = useState<MappingRun | null>(null)
  const mapping = data?.kind === 'mapping' ? data : null
  const open = mapping !== null && mapping.phase !== 'done' && mapping.phase !== 'failed'
  useEffect(() => {
    if (!open || !scanner) return
    const stop = new AbortController()
    let after = -1
    void (async () => {
      while (!stop.signal.aborted) {
        try {
          const r = await fetch(addressOf(API.mapping, { id: scanner }, { after: String(after) }), { signal: stop.signal })
          if (r.status !== 200) return
          const m = (await r.json()) as MappingRun
          after = m.sequence
          setLive(m)
          if (m.phase === 'done' || m.phase === 'failed') return
          // ten pictures a second are enough for an eye
          await new Promise((resolve) => setTimeout(resolve, 100))
        } catch {
          if (stop.signal.aborted) return
          await new Promise((resolve) => setTimeout(resolve, 1000))
        }
      }
    })()
    return () => stop.abort()
  }, [open, scanner])
  if (!mapping) return null
  // what was asked for last knows most, except while it streams
  return open && live && live.sequence >= mapping.sequence ? live : mapping
}
