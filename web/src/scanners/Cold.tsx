import { Checkbox } from 'antd'
import type { ScannerSummary } from '@oak-gauge/contract'
import { minutes } from './health.tsx'

/** A scanner that is still warming up: what that means, and an explicit "anyway". */
export function ColdNote({
  scanner: s,
  harm = '',
  anyway,
  checked,
  onChange,
}: {
  scanner: Pick<ScannerSummary, 'name' | 'warmIn'>
  harm?: string
  anyway: string
  checked: boolean
  onChange(on: boolean): void
}) {
  return (
    <div className="note">
      {s.name} is still warming up{s.warmIn === null ? '' : `, ${minutes(s.warmIn)} of its own clock`}.{harm && ` ${harm}`}
      <div>
        <Checkbox checked={checked} onChange={(e) => onChange(e.target.checked)}>
          {anyway}; it will be recorded
        </Checkbox>
      </div>
    </div>
  )
}

export const isCold = (s: Pick<ScannerSummary, 'state'> | undefined) => s?.state != null && !s.state.warm
