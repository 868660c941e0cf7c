import { useEffect, useMemo, useState } from 'react'
import { API, addressOf, type CaptureRun } from '@oak-gauge/contract'
import { timelineOf, type Timeline } from '@oak-gauge/core/capture/timeline.ts'

/** ms between two looks at what came, and between those at all of it: a frame that waited is placed later */
const EVERY = 500
const WHOLE = 3000
/** numbers a frame */
const PER = 4

/** How a recording goes so far. */
export function useLine(id: string, { frames, without }: Pick<CaptureRun, 'frames' | 'without'>): Timeline {
  const [data, setData] = useState(() => new Float32Array(0))
  const started = frames > 0
  const cut = JSON.stringify(without)
  useEffect(() => {
    if (!started) return
    const stop = new AbortController()
    void (async () => {
      let known = new Float32Array(0)
      let whole = -Infinity
      while (!stop.signal.aborted) {
        try {
          const all = performance.now() - whole > WHOLE
          if (all) whole = performance.now()
          const from = all ? 0 : known.length / PER
          const r = await fetch(addressOf(API.timeline, { id }, { from: String(from) }), { signal: stop.signal })
          if (r.status !== 200) return
          const more = new Float32Array(await r.arrayBuffer())
          if (all || more.length) {
            const next = new Float32Array(PER * from + more.length)
            next.set(known.subarray(0, PER * from))
            next.set(more, PER * from)
            setData((known = next))
          }
        } catch {
          // asked again
        }
        await new Promise((resolve) => setTimeout(resolve, EVERY))
      }
    })()
    return () => stop.abort()
    // what was left out or placed meanwhile changes frames that are known
  }, [id, started, cut])
  return useMemo(() => {
    const column = (k: number) => Float64Array.from({ length: data.length / PER }, (_, i) => data[PER * i + k])
    return timelineOf({ times: column(0), fates: column(1), sigmas: column(2), known: column(3) })
  }, [data])
}
