import { Button } from 'antd'
import { useState } from 'react'
import { Amount } from '../../looks/Amount.tsx'
import { FloorPart, type Floor } from './FloorPart.tsx'
import { t } from '../../words/t.ts'

/** Frames are kept whole: how fine the surface is, and which distances count, can be chosen again. mm; null: no limit */
export interface Chosen {
  spacing: number
  near: number | null
  far: number | null
}
const NAMES = ['spacing', 'near', 'far'] as const
const same = (a: Floor | undefined, b: Floor | undefined) => JSON.stringify(a) === JSON.stringify(b)

/** The spacing and the limits of a recording, and the floor of one that has ended. place: all frames are placed once more, so */
export function PlaceAnew({
  was,
  range,
  busy,
  place,
  label,
  floor: floorWas,
}: {
  was: Chosen
  floor?: Floor
  range?: { near: number; far: number }
  busy: boolean
  place(c: Chosen, floor: Floor | undefined): void
  label: string
}) {
  const [draft, setDraft] = useState<Partial<Chosen>>({})
  const { spacing, near, far } = was
  const [floorDraft, setFloor] = useState<Floor | null>(null)
  const floor = floorDraft ?? floorWas
  const chosen: Chosen = { spacing, near, far, ...draft }
  const changed = NAMES.some((k) => chosen[k] !== was[k]) || !same(floor, floorWas)
  const asItWas = () => {
    setDraft({})
    setFloor(null)
  }
  const wrong = chosen.near !== null && chosen.far !== null && chosen.near >= chosen.far
  const set = (c: Partial<Chosen>) => setDraft((d) => ({ ...d, ...c }))
  return (
    <div className="stack" data-part="place-anew">
      <Amount label={t('Spacing')} value={chosen.spacing} usual={was.spacing} onChange={(spacing) => set({ spacing })} reason={t('of the surface')} />
      <Amount
        label={t('Nothing nearer than')}
        value={chosen.near}
        onChange={(near) => set({ near })}
        onClear={() => set({ near: null })}
        reason={range ? t('from the scanner; it works from {{near}} mm', { near: range.near }) : t('from the scanner; empty: no limit')}
      />
      <Amount
        label={t('Nothing farther than')}
        value={chosen.far}
        onChange={(far) => set({ far })}
        onClear={() => set({ far: null })}
        reason={range ? t('from the scanner; it works up to {{far}} mm', { far: range.far }) : t('from the scanner; empty: no limit')}
      />
      {floor && <FloorPart value={floor} markers={[]} set={setFloor} />}
      {wrong && (
        <span className="reason" role="alert">
          {t('The near limit must be nearer than the far one.')}
        </span>
      )}
      {changed && (
        <div className="abreast">
          <Button
            size="small"
            disabled={wrong}
            loading={busy}
            onClick={() => {
              place(chosen, floor)
              asItWas()
            }}
          >
            {label}
          </Button>
          <Button size="small" type="text" onClick={asItWas}>
            {t('As it was')}
          </Button>
        </div>
      )}
    </div>
  )
}
