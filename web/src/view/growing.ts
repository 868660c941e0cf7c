import { useSyncExternalStore } from 'react'
import type { Shown } from './objects.ts'

/** A place of the scanner, in the axes of the stage: where it is and where it looks (unit). */
export interface Held {
  at: readonly [number, number, number]
  looks: readonly [number, number, number]
}
/** The scanner as it is led: where it is, as far as that is known; where it was known last, while it is lost. mm: how far away what it looks at is */
export interface Led {
  scanner: Held | null
  ghost: Held | null
  /** from where it should be seen next, the most telling first */
  next: readonly Held[]
  distance: number
}

/** What changes too fast, or is too large, for the store. */
function outside<T>() {
  let now: T | null = null
  const listeners = new Set<() => void>()
  const subscribe = (l: () => void) => {
    listeners.add(l)
    return () => void listeners.delete(l)
  }
  return {
    set(next: T | null): void {
      if (next === now) return
      now = next
      for (const l of listeners) l()
    },
    use: (): T | null => useSyncExternalStore(subscribe, () => now),
  }
}

/** What grows on the stage while it is recorded. */
/** apart: it does not lie in the axes of the job */
export const growing = outside<Shown & { apart: boolean }>()
export const led = outside<Led>()
