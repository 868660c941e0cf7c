import { Button } from 'antd'
import { useEffect, useState } from 'react'
import type { TrayItem } from '@oak-gauge/contract'
import { Amount } from '../../looks/Amount.tsx'
import { useAppDispatch, useAppSelector } from '../../store.ts'
import { view } from '../../view/viewSlice.ts'
import type { Settings } from './plansettings.ts'
import { t } from '../../words/t.ts'

/** Functional faces stay free: whole faces of a nominal, or the surroundings of picked places. */
export function KeepClear({ settings: s, nominal, onChange }: { settings: Settings; nominal: TrayItem | undefined; onChange(p: Partial<Settings>): void }) {
  const dispatch = useAppDispatch()
  const { picking, places, faces } = useAppSelector((st) => st.view)
  const [radius, setRadius] = useState(15)
  const byFace = nominal !== undefined && nominal.faces > 0
  const on = picking.kind === 'faces' || picking.kind === 'places'
  useEffect(() => {
    if (picking.kind === 'faces') onChange({ keepFaces: faces })
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only what was picked counts
  }, [faces, picking.kind])
  useEffect(() => {
    if (picking.kind === 'places' && places.length) onChange({ keepClear: [...s.keepClear, ...places.map((p) => ({ at: p.at, radius }))] })
    if (picking.kind === 'places' && places.length) dispatch(view.places([]))
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each picked place
  }, [places])
  const count = s.keepFaces.length + s.keepClear.length
  const begin = () => {
    if (on) return void dispatch(view.pick({ kind: 'none' }))
    if (byFace) dispatch(view.faces(s.keepFaces))
    dispatch(view.pick(byFace ? { kind: 'faces', slot: nominal.slot } : { kind: 'places', most: 1 }))
  }
  return (
    <div className="stack">
      <div className="field">
        <span>
          {t('Kept clear')}{' '}
          <span className="figure" data-kept-clear={count}>
            {count}
          </span>
        </span>
        <span className="abreast">
          <Button size="small" onClick={begin}>
            {on ? t('That is all') : byFace ? t('Pick faces') : t('Pick places')}
          </Button>
          {count > 0 && (
            <Button
              size="small"
              onClick={() => {
                onChange({ keepFaces: [], keepClear: [] })
                dispatch(view.faces([]))
              }}
            >
              {t('None')}
            </Button>
          )}
        </span>
        <span className="reason">
          {on
            ? byFace
              ? t('click the faces no marker may touch')
              : t('everything within {{radius}} mm of a picked place stays free', { radius })
            : t('bearing seats, sealing and datum faces')}
        </span>
      </div>
      {on && !byFace && <Amount label={t('Radius')} value={radius} onChange={setRadius} />}
    </div>
  )
}
