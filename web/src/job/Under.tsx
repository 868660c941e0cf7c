import { useSyncExternalStore, type ReactNode } from 'react'
import { createPortal } from 'react-dom'

let place: HTMLElement | null = null
const listeners = new Set<() => void>()
const subscribe = (l: () => void) => {
  listeners.add(l)
  return () => void listeners.delete(l)
}
const found = (node: HTMLElement | null) => {
  place = node
  for (const l of listeners) l()
}

/** The room under the view, as wide as that. */
export const UnderView = () => <div className="under" ref={found} />

/** Puts something there: what a card has to say that wants the width. */
export function Under({ children }: { children: ReactNode }) {
  const node = useSyncExternalStore(subscribe, () => place)
  return node && createPortal(children, node)
}
