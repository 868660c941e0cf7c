import type { StageState } from '@oak-gauge/contract'
import { t } from '../words/t.ts'

export const STATE_WORDS: Record<StageState, string> = { open: t('not started'), work: t('in work'), good: t('evidence good'), look: t('needs a look') }

/** State by shape: open ring, half, full, notched. */
export function StageMark({ state, size = 12 }: { state: StageState; size?: number }) {
  const r = size / 2 - 1
  const c = size / 2
  return (
    <g>
      <circle cx={c} cy={c} r={r} fill={state === 'open' || state === 'work' ? 'var(--card)' : 'var(--deep)'} stroke="var(--deep)" strokeWidth="1.4" />
      {state === 'work' && <path d={`M${c} ${c - r} A${r} ${r} 0 0 0 ${c} ${c + r} Z`} fill="var(--deep)" />}
      {state === 'look' && <path d={`M${c} ${c} L${c + r + 1} ${c - r} L${c + r + 1} ${c + r} Z`} fill="var(--card)" stroke="var(--deep)" strokeWidth="0.8" />}
    </g>
  )
}
