import { useEffect } from 'react'
import { singleKeys } from '../help/singlekeys.ts'
import { useAppDispatch } from '../store.ts'
import { view } from '../view/viewSlice.ts'

interface Keys {
  back: (() => void) | null
  forward: (() => void) | null
  find(): void
  help(): void
}

const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement && (e.target.matches('input, textarea, select, [contenteditable]') || e.target.closest('[role="dialog"]') !== null)

/** Keys of the job page. Cards add their own: [ ] nudges, space goes on. */
export function useKeys({ back, forward, find, help }: Keys): void {
  const dispatch = useAppDispatch()
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault()
        find()
        return
      }
      if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return
      const k = e.key
      if (k !== ' ' && !singleKeys()) return
      if (k === 'Z') forward?.()
      else if (k === 'z') back?.()
      else if (k === 'f' || k === 'F') dispatch(view.frameAll())
      else if (k >= '1' && k <= '6') dispatch(view.lookFrom(Number(k)))
      else if (k === 'l') dispatch(view.ledger(true))
      else if (k === '?') help()
      else if (k === ' ') {
        // space goes on: the main button of the card
        if (e.target instanceof HTMLButtonElement) return
        e.preventDefault()
        document.querySelector<HTMLButtonElement>('.card .foot .ant-btn-primary:not(:disabled)')?.click()
      } else if (k === '[' || k === ']') window.dispatchEvent(new CustomEvent('nudge', { detail: k === ']' ? 1 : -1 }))
      else return
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [back, forward, find, help, dispatch])
}

/** [ and ] of the keyboard, for the setting a card is about. */
export function useNudge(f: (direction: 1 | -1) => void): void {
  useEffect(() => {
    const on = (e: Event) => f((e as CustomEvent<1 | -1>).detail)
    window.addEventListener('nudge', on)
    return () => window.removeEventListener('nudge', on)
  }, [f])
}
