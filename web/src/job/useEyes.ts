import { useCallback } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { useAppSelector } from '../store.ts'
import { growing } from '../view/growing.ts'
import { shownByDefault, useOpenJob } from './useJob.ts'

/**
 * Which items are shown: as the person said, else as the stage wants it. While one records only what grows is, unless the person wants more; what is recorded in
 * axes of its own is shown alone (`apart`): what lies in those of the job would lie anywhere in it.
 */
export function useEyes(): { isShown: (i: TrayItem) => boolean; apart: boolean } {
  const { state, stage } = useOpenJob()
  const hidden = useAppSelector((s) => s.view.hidden)
  const now = growing.use()
  const [records, apart] = [now !== null, now?.apart === true]
  const isShown = useCallback(
    (i: TrayItem) => !apart && !(hidden[i.slot] ?? (records || !shownByDefault(i, stage, state.tray))),
    [apart, records, hidden, stage, state.tray],
  )
  return { isShown, apart }
}
