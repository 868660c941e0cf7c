import { Switch } from 'antd'
import { useId } from 'react'
import type { CaptureRun } from '@oak-gauge/contract'
import { useSound } from './useSound.ts'
import { t } from '../words/t.ts'

/** Sound of a recording, on or off. What is heard is written beside it, too: the state, and the working distance. */
export function SoundSwitch({ run }: { run: Pick<CaptureRun, 'phase' | 'tracking' | 'distance' | 'range'> }) {
  const id = useId()
  const [on, set] = useSound(run)
  return (
    <span className="abreast">
      <Switch id={id} size="small" checked={on} onChange={set} />
      <label htmlFor={id} className="hint" title={t('High when too near, low when too far, silent when good; two ticks when it is lost.')}>
        {t('Sound')}
      </label>
    </span>
  )
}
