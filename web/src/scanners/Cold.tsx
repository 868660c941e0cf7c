import { Checkbox } from 'antd'
import type { ScannerSummary } from '@oak-gauge/contract'
import { minutes } from './health.tsx'
import { t } from '../words/t.ts'

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
      {t('{{name}} is still warming up{{warmIn}}.{{harm}}', {
        name: s.name,
        warmIn: s.warmIn === null ? '' : t(', {{warmIn}} of its own clock', { warmIn: minutes(s.warmIn) }),
        harm: harm ? ` ${harm}` : '',
      })}
      <div>
        <Checkbox checked={checked} onChange={(e) => onChange(e.target.checked)}>
          {t('{{anyway}}; it will be recorded', { anyway })}
        </Checkbox>
      </div>
    </div>
  )
}

export const isCold = (s: Pick<ScannerSummary, 'state'> | undefined) => s?.state != null && !s.state.warm
