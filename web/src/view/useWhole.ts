import { useEffect } from 'react'
import { wholeOf } from './display.ts'
import type { Shown } from './objects.ts'
import type { Stage } from './scene.ts'

/** Points of all clouds together up to which they are drawn whole: 16 bytes each are held by the page and by the graphics card. */
const MOST = 20_000_000
/** ms for which the same is shown before the rest of it is fetched */
const PATIENCE = 1500

/** Fetches the whole of the clouds that are shown, when they have been so for a while, and lets go of what is not shown any more. */
export function useWhole(stage: Stage | null, shown: Shown[], complete: boolean): void {
  const clouds = shown.filter((s) => s.kind === 'points')
  const sum = clouds.reduce((n, s) => n + s.count, 0)
  const wanted = complete && sum <= MOST ? clouds.filter((s) => !s.part && s.count > s.arrays['xyz'].length / 3) : []
  const ids = wanted.map((s) => s.id).join(' ')
  useEffect(() => {
    if (!stage || !ids) return
    const stop = new AbortController()
    const begin = setTimeout(() => {
      void (async () => {
        for (const id of ids.split(' '))
          try {
            if (!stop.signal.aborted) stage.setWhole(id, await wholeOf(id, stop.signal))
          } catch {
            // what is shown stays as it is
          }
      })()
    }, PATIENCE)
    return () => {
      clearTimeout(begin)
      stop.abort()
    }
  }, [stage, ids])
}
