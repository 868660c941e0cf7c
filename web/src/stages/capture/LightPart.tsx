import { Button, Segmented } from 'antd'
import { useEffect } from 'react'
import type { CaptureRun } from '@oak-gauge/contract'
import { usualExposure } from '@oak-gauge/core/capture/exposing.ts'
import { Amount } from '../../looks/Amount.tsx'
import { Choice } from '../../looks/Choice.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import { t } from '../../words/t.ts'

/** surfaces that an exposure is offered for */
export const LIGHTS = ['matte', 'dark', 'glossy'] as const
export const SURFACE: Record<(typeof LIGHTS)[number], string> = { matte: t('matte'), dark: t('dark'), glossy: t('glossy') }
type Way = 'auto' | 'spot' | 'hand' | (typeof LIGHTS)[number]
/** of what is lit: so much unseen is worth a word */
const MUCH = 0.1

const PATTERN: Record<string, string> = { cross: t('crossing lines'), line: t('one line, for pockets'), area: t('the whole area') }

/** With what light it records: that can be changed while it does. */
export function LightPart({ light, send }: { light: CaptureRun['light']; send(what: string, body?: object): void }) {
  const { exposure, auto, spot, pattern, patterns, seen } = light
  const dispatch = useAppDispatch()
  const { picking, places } = useAppSelector((s) => s.view)
  const asks = picking.kind === 'places'
  const clicked = asks ? places.at(0)?.at : undefined
  useEffect(() => {
    if (!clicked) return
    send('light', { spot: clicked })
    dispatch(view.places([]))
    dispatch(view.pick({ kind: 'none' }))
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for a place that was clicked
  }, [clicked])
  // whoever leaves asks for nothing any more
  useEffect(() => () => void dispatch(view.pick({ kind: 'none' })), [dispatch])
  if (exposure === null) return null
  const way: Way = asks || spot ? 'spot' : auto ? 'auto' : (LIGHTS.find((s) => usualExposure(s) === exposure) ?? 'hand')
  const choose = (w: Way) => {
    dispatch(view.pick(w === 'spot' ? { kind: 'places', most: 1 } : { kind: 'none' }))
    if (w === 'spot') return
    if (w === 'auto') send('light', { auto: true })
    else if (w === 'hand') send('light', { auto: false })
    else send('light', { exposure: usualExposure(w) })
  }
  const percent = (share: number) => Math.round(100 * share)
  return (
    <>
      <Choice<Way>
        id="k-light"
        label={t('Light')}
        value={way}
        onChange={choose}
        options={[
          { value: 'auto', label: t('by itself') },
          { value: 'spot', label: t('by a spot') },
          ...LIGHTS.map((s) => ({ value: s, label: t('for a {{surface}} surface', { surface: SURFACE[s] }) })),
          { value: 'hand', label: t('by hand') },
        ]}
      >
        {asks ? (
          <span className="reason">{t('Click the place of the model that shall be well exposed.')}</span>
        ) : (
          spot && (
            <span className="reason">
              <Button size="small" onClick={() => choose('spot')}>
                {t('Another spot')}
              </Button>
            </span>
          )
        )}
      </Choice>
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
