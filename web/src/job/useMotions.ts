import { useEffect } from 'react'
import type { Step } from '@oak-gauge/contract'
import { useAppDispatch } from '../store.ts'
import { view } from '../view/viewSlice.ts'

/** Draws what a step found that nothing holds, as long as its card is open. */
export function useMotions(step: Step | undefined): void {
  const dispatch = useAppDispatch()
  const motions = step?.evidence?.motions
  useEffect(() => {
    dispatch(view.motions(motions ?? []))
    return () => void dispatch(view.motions([]))
  }, [dispatch, motions])
}
