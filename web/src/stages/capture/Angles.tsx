import { Input, Select } from 'antd'
import { useState } from 'react'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

const ROUNDS = [4, 8, 12, 24]

/** So many shots once round, degrees. */
export const anglesOf = (shots: number): number[] => Array.from({ length: shots }, (_, k) => (360 * k) / shots)

/** Angles as a person types them; null where something else stands there. */
export function readAngles(text: string): number[] | null {
  const list = text
    .split(/[\s,;°]+/)
    .filter(Boolean)
    .map(Number)
  return list.length && list.length <= 360 && list.every((a) => Math.abs(a) <= 360) ? list : null
}

/** To which angles a turntable is turned: once round in even steps, or a path of its own. */
export function Angles({ angles, set }: { angles: number[]; set(angles: number[]): void }) {
  const [text, setText] = useState<string | null>(null)
  const even = ROUNDS.find((n) => anglesOf(n).join() === angles.join())
  const bad = text !== null && !readAngles(text)
  return (
    <>
      <div className="field">
        <label htmlFor="r-round">{t('Shots')}</label>
        <Select<number>
          id="r-round"
          className="control"
          value={text === null ? (even ?? 0) : 0}
          onChange={(n) => {
            setText(n ? null : angles.map((a) => fixed(a, 1).replace(/\.0$/, '')).join(' '))
            if (n) set(anglesOf(n))
          }}
          options={[
            ...ROUNDS.map((n) => ({ value: n, label: t('{{n}}, every {{degrees}}\u00b0', { n, degrees: fixed(360 / n, 0) }) })),
            { value: 0, label: t('at angles of my own') },
          ]}
        />
      </div>
      {text !== null && (
        <div className="field">
          <label htmlFor="r-angles">{t('Angles')}</label>
          <Input
            id="r-angles"
            className="control"
            value={text}
            status={bad ? 'error' : ''}
            onChange={(e) => {
              setText(e.target.value)
              const list = readAngles(e.target.value)
              if (list) set(list)
            }}
          />
          {bad && <span className="reason">{t('Angles in degrees, -360 to 360, with spaces between them.')}</span>}
        </div>
      )}
    </>
  )
}
