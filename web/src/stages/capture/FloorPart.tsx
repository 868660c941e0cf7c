import { Segmented, Select } from 'antd'
import { useState } from 'react'
import type { CaptureRun, FloorRequest } from '@oak-gauge/contract'
import { Amount } from '../../looks/Amount.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

export type Floor = Required<FloorRequest>
export const RAISE = 0.5
export const floorOf = ({ floor, floorMarkers, raise }: Floor): Floor => ({ floor, floorMarkers, raise })
/** mm: an arrow key moves the floor by this */
const NUDGE = 0.05

/**
 * What the part stands on: what lies beneath is no part of it. markers: names by which it may be given; found: where it is by now, where that is known.
 */
export function FloorPart({
  value,
  markers,
  found,
  set,
}: {
  value: Floor
  markers: string[]
  found?: Pick<CaptureRun['floor'], 'found' | 'problem'>
  set(f: Floor): void
}) {
  // markers are named one after the other: until there are three nothing is sent
  const [names, setNames] = useState<string[] | null>(null)
  const floor = names ? 'markers' : value.floor
  const choose = (f: Floor['floor']) => {
    if (f === 'markers') return setNames(value.floorMarkers)
    setNames(null)
    set({ floor: f, floorMarkers: [], raise: value.raise })
  }
  const named = (list: string[]) => {
    if (list.length < 3) return setNames(list)
    setNames(null)
    set({ floor: 'markers', floorMarkers: list, raise: value.raise })
  }
  const { problem } = found ?? {}
  return (
    <>
      <div className="field across">
        <label>{t('Beneath the part')}</label>
        <Segmented<Floor['floor']>
          size="small"
          aria-label={t('Beneath the part')}
          value={floor}
          onChange={choose}
          options={[
            { value: 'none', label: t('nothing goes') },
            { value: 'table', label: t('the table goes') },
            ...(markers.length >= 3 || floor === 'markers' ? [{ value: 'markers' as const, label: t('by markers') }] : []),
          ]}
        />
      </div>
      {floor === 'markers' && (
        <div className="field">
          <label htmlFor="k-floor-markers">{t('Markers on the table')}</label>
          <Select<string[]>
            id="k-floor-markers"
            className="control"
            mode="multiple"
            value={names ?? value.floorMarkers}
            onChange={named}
            options={(markers.length ? markers : value.floorMarkers).map((m) => ({ value: m, label: m }))}
          />
          {names && <span className="hint">{t('Three or more, far from one another; {{n}} so far.', { n: names.length })}</span>}
        </div>
      )}
      {value.floor !== 'none' && !names && (
        <Amount
          label={t('Raised by')}
          value={value.raise}
          usual={RAISE}
          step={NUDGE}
          positive={false}
          onChange={(raise) => set({ ...value, raise })}
          reason={
            found?.found
              ? t('{{percent}} % of the model lies beneath; it is flat within {{sigma}} mm', {
                  percent: fixed(100 * found.found.beneath, 0),
                  sigma: fixed(found.found.sigma, 3),
                })
              : t('towards the part; arrow keys move it by {{nudge}} mm', { nudge: NUDGE })
          }
        />
      )}
      {problem && value.floor !== 'none' && (
        <span className="reason" role="alert">
          {problem.detail} {problem.remedy}
        </span>
      )}
    </>
  )
}
