import { useSyncExternalStore } from 'react'
import type { Shown } from './objects.ts'

/** What grows on the stage while it is recorded: its arrays are too large and too short-lived for the store. */
let now: Shown | null = null
const listeners = new Set<() => void>()

export const growing = {
  set(next: Shown | null): void {
    if (next === now) return
    now = next
    for (const l of listeners) l()
  },
}
const subscribe = (l: () => void) => {
  listeners.add(l)
  return () => void listeners.delete(l)
}
export const useGrowing = (): Shown | null => useSyncExternalStore(subscribe, () => now)
