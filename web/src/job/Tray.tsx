import { useState } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { short } from '../looks/quantity.ts'
import { useAppDispatch, useAppSelector } from '../store.ts'
import { swatchOf } from '../view/useShown.ts'
import { view, type Colouring } from '../view/viewSlice.ts'
import { useEyes } from './useEyes.ts'
import { useOpenJob } from './useJob.ts'
import { t } from '../words/t.ts'

interface Group {
  key: string
  name: string
  items: TrayItem[]
}

/** Setups with their passes, then everything else: one line each, folded until opened. */
export function Tray() {
  const { state, passes } = useOpenJob()
  const { isShown, apart } = useEyes()
  const colouring = useAppSelector((s) => s.view.colouring)
  const coloured = state.tray.some((i) => i.coloured)
  const dispatch = useAppDispatch()
  const [open, setOpen] = useState<Record<string, boolean>>({})
  const groups: Group[] = [
    ...state.setups.map((s) => ({ key: s.id, name: s.name, items: passes.filter((p) => p.setup === s.id) })),
    { key: 'loose', name: t('Without a setup'), items: passes.filter((p) => !state.setups.some((s) => s.id === p.setup)) },
  ].filter((g) => g.items.length)
  const others = state.tray.filter((i) => i.role === 'mesh' || i.role === 'nominal' || i.role === 'shape' || i.kind === 'markers')
  if (!groups.length && !others.length) return null
  const eye = (items: TrayItem[], name: string) => {
    const n = items.filter(isShown).length
    return (
      <button
        type="button"
        className="plain eye"
        aria-pressed={n > 0}
        aria-label={`${n > 0 ? t('Hide') : t('Show')} ${name}`}
        disabled={apart}
        title={apart ? t('What is recorded now lies in axes of its own.') : n > 0 ? t('Hide') : t('Show')}
        onClick={() => dispatch(view.hide({ slots: items.map((i) => i.slot), hidden: n > 0 }))}
      >
        <Eye state={n === 0 ? 'no' : n < items.length ? 'some' : 'yes'} />
      </button>
    )
  }
  const line = (i: TrayItem, inside: boolean) => (
    <div className={`line${inside ? ' in' : ''}`} key={i.slot} data-item={i.name}>
      {eye([i], i.name)}
      {i.kind === 'markers' ? (
        <span className={`swatch ${i.role}`} />
      ) : (
        <span className="swatch" style={{ background: `rgb(${swatchOf(i, passes).join(' ')})` }} />
      )}
      <span className="name" title={i.name}>
        {i.name}
      </span>
      <span className="figure soft">{i.role === 'nominal' && i.faces ? t('{{count}} faces', { count: i.faces }) : short(i.count)}</span>
    </div>
  )
  return (
    <div className="tray" role="group" aria-label={t('Tray')}>
      {groups.map((g) => (
        <div key={g.key}>
          <div className="line">
            {eye(g.items, g.name)}
            <button type="button" className="plain name" aria-expanded={!!open[g.key]} onClick={() => setOpen({ ...open, [g.key]: !open[g.key] })}>
              {g.name}{' '}
              <span className="soft">
                {open[g.key] ? '▾' : '▸'} {t('{{count}} passes', { count: g.items.length })}
              </span>
            </button>
            <span className="figure soft">{short(g.items.reduce((s, i) => s + i.count, 0))}</span>
          </div>
          {open[g.key] && g.items.map((i) => line(i, true))}
        </div>
      ))}
      {others.map((i) => line(i, false))}
      {(passes.length > 0 || coloured) && (
        <div className="line">
          <label htmlFor="tray-colours" className="soft name">
            {t('Colours')}
          </label>
          <select id="tray-colours" value={colouring} onChange={(e) => dispatch(view.colouring(e.target.value as Colouring))}>
            <option value="pass">{t('by pass')}</option>
            <option value="surface" disabled={!coloured}>
              {coloured ? t('as recorded') : t('as recorded (none were)')}
            </option>
            <option value="plain">{t('plain')}</option>
          </select>
        </div>
      )}
    </div>
  )
}

function Eye({ state }: { state: 'yes' | 'some' | 'no' }) {
  return (
    <svg width="17" height="11" viewBox="0 0 17 11" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.4">
      <path d="M1 5.5C3.5 1.5 6 1 8.5 1s5 .5 7.500 4.500C13.500 9.500 11 10 8.500 10S3.500 9.500 1 5.500z" opacity={state === 'no' ? 0.45 : 1} />
      {state !== 'no' && <circle cx="8.500" cy="5.500" r="2.300" fill={state === 'yes' ? 'currentColor' : 'none'} />}
    </svg>
  )
}
