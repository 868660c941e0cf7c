import { Button, Switch } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { ScannerSummary } from '@oak-gauge/contract'
import { usePatchScannerMutation, useScannersQuery } from '../api.ts'
import { useNow } from '../looks/when.ts'
import { StageMark } from '../looks/StageMark.tsx'
import { AddScanner } from './AddScanner.tsx'
import { HEALTH_MARK, inOneLine, timeUsed, worstDistance } from './health.tsx'
import { fixed } from '../looks/quantity.ts'
import { t } from '../words/t.ts'

/** The scanners beside the bench, each with its health. */
export function Shelf() {
  const { data } = useScannersQuery()
  const [adding, setAdding] = useState(false)
  return (
    <aside className="shelf" aria-label={t('Scanner shelf')}>
      <h2>{t('Scanner shelf')}</h2>
      {data?.length === 0 && (
        <p className="soft">
          {t('No scanner yet. A scanner joins by the address of its bridge; how one speaks to Oak Gauge is written in docs/scanner-link.md.')}
        </p>
      )}
      {data?.map((s) => (
        <OnShelf key={s.id} scanner={s} />
      ))}
      <div className="grow" />
      <Button onClick={() => setAdding(true)}>{t('Add a scanner')}</Button>
      {adding && <AddScanner onClose={() => setAdding(false)} />}
    </aside>
  )
}

function OnShelf({ scanner: s }: { scanner: ScannerSummary }) {
  const [patch, { isLoading }] = usePatchScannerMutation()
  const line = inOneLine(s)
  const worst = worstDistance(s)
  const used = timeUsed(s, useNow())
  return (
    <section className="onshelf" data-scanner={s.name}>
      <div className="leads">
        <div className="row">
          <h3>
            <svg width="14" height="14" aria-hidden="true">
              <StageMark state={HEALTH_MARK[s.health.state]} size={14} />
            </svg>
            <Link to={`/scanners/${s.id}`}>{s.name}</Link>
          </h3>
          <span className="figure">{worst ? `${fixed(Math.abs(worst.value), 3)} mm` : '–'}</span>
        </div>
        <div className="row soft">
          <span>{s.model}</span>
          <span>{worst ? t('on the ball bar') : t('not verified')}</span>
        </div>
        <div className="bar" title={t('of the time until the next calibration')}>
          <i style={{ width: `${100 * used}%` }} />
        </div>
        <div className={line.urgent ? 'urgent' : ''}>{line.text}</div>
      </div>
      <div className="row">
        <span className="hint">
          {s.state ? (
            <>
              <span className="figure">{fixed(s.state.celsius, 1)}</span> °C{s.state.warm ? t(', warm') : ''}
            </>
          ) : s.on ? (
            'connecting'
          ) : (
            t('switched off')
          )}
        </span>
        <Switch
          size="small"
          checked={s.on}
          loading={isLoading}
          aria-label={t('{{name}} on', { name: s.name })}
          onChange={(on) => void patch({ id: s.id, on })}
        />
      </div>
    </section>
  )
}
