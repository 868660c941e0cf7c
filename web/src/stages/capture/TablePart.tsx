import { Button, InputNumber } from 'antd'
import { useState } from 'react'
import type { CaptureRun } from '@oak-gauge/contract'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** The turntable of a recording: how far it is; while it is held, what else may be shot. */
export function TablePart({
  table,
  phase,
  send,
}: {
  table: NonNullable<CaptureRun['table']>
  phase: CaptureRun['phase']
  send(what: string, body?: object): void
}) {
  const [angle, setAngle] = useState<number | null>(null)
  const { shots, taken, missing } = table
  const held = phase === 'held'
  return (
    <div className="stack table">
      <p className="abreast" data-quantity="shots">
        {taken < shots
          ? t('shot {{next}} of {{shots}}', { next: taken + (phase === 'recording' || phase === 'waiting' ? 1 : 0), shots })
          : t('{{shots}} shots taken', { shots })}
        <span className="hint">
          {table.angle === null ? '' : t('turned to {{degrees}}\u00b0', { degrees: fixed(table.angle, table.angle % 1 ? 1 : 0) })}
          {missing && ` ${t('where something is missing')}`}
        </span>
      </p>
      {held && table.angle !== null && (
        <>
          <Button size="small" className="alone" onClick={() => send('again', { until: 'gained' })}>
            {t('Again, until nothing is gained')}
          </Button>
          <div className="abreast">
            <InputNumber
              size="small"
              aria-label={t('Angle of one more shot, degrees')}
              value={angle}
              min={-360}
              max={360}
              suffix={'\u00b0'}
              onChange={(v) => setAngle(v)}
            />
            <Button size="small" disabled={angle === null} onClick={() => angle !== null && send('shots', { angles: [angle] })}>
              {t('One more shot')}
            </Button>
          </div>
        </>
      )}
    </div>
  )
}
