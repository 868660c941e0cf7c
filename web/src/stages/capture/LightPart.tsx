import { Segmented } from 'antd'
import type { CaptureRun } from '@oak-gauge/contract'
import { usualExposure } from '@oak-gauge/core/capture/exposing.ts'
import { Amount } from '../../looks/Amount.tsx'
import { t } from '../../words/t.ts'

/** surfaces that an exposure is offered for */
export const LIGHTS = ['matte', 'dark', 'glossy'] as const
export const SURFACE: Record<(typeof LIGHTS)[number], string> = { matte: t('matte'), dark: t('dark'), glossy: t('glossy') }
type Way = 'auto' | 'hand' | (typeof LIGHTS)[number]
/** of what is lit: so much unseen is worth a word */
const MUCH = 0.1

const PATTERN: Record<string, string> = { cross: t('crossing lines'), line: t('one line, for pockets'), area: t('the whole area') }

/** With what light it records: that can be changed while it does. */
export function LightPart({ light, send }: { light: CaptureRun['light']; send(what: string, body?: object): void }) {
  const { exposure, auto, pattern, patterns, seen } = light
  if (exposure === null) return null
  const way: Way = auto ? 'auto' : (LIGHTS.find((s) => usualExposure(s) === exposure) ?? 'hand')
  const choose = (w: Way) => {
    if (w === 'auto') send('light', { auto: true })
    else if (w === 'hand') send('light', { auto: false })
    else send('light', { exposure: usualExposure(w) })
  }
  const percent = (share: number) => Math.round(100 * share)
  return (
    <>
      <div className="field across">
        <label>{t('Light')}</label>
        <Segmented<Way>
          size="small"
          aria-label={t('Light')}
          value={way}
          onChange={choose}
          options={[{ value: 'auto', label: t('by itself') }, ...LIGHTS.map((s) => ({ value: s, label: SURFACE[s] })), { value: 'hand', label: t('by hand') }]}
        />
      </div>
      <Amount
        label={t('Exposure')}
        unit=""
        value={exposure}
        step={0.1}
        onChange={(v) => send('light', { exposure: v })}
        reason={
          seen && (seen.dark > MUCH || seen.bright > MUCH)
            ? seen.bright > seen.dark
              ? t('{{percent}} % of what is lit is too bright to be measured', { percent: percent(seen.bright) })
              : t('{{percent}} % of what is lit is too dark to be measured', { percent: percent(seen.dark) })
            : t('1: matt white at the ideal distance is well exposed')
        }
      />
      {patterns.length > 1 && pattern !== null && (
        <div className="field across">
          <label>{t('Pattern')}</label>
          <Segmented
            size="small"
            aria-label={t('Pattern')}
            value={pattern}
            onChange={(p) => send('light', { pattern: p })}
            options={patterns.map((p) => ({ value: p, label: PATTERN[p] ?? p }))}
          />
        </div>
      )}
    </>
  )
}
