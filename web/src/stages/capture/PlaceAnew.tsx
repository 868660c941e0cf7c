import { Button } from 'antd'
import { useState } from 'react'
import { Amount } from '../../looks/Amount.tsx'
import { t } from '../../words/t.ts'

/** Frames are kept whole: how fine the surface is, and which distances count, can be chosen again. mm; null: no limit */
export interface Chosen {
  spacing: number
  near: number | null
  far: number | null
}
const NAMES = ['spacing', 'near', 'far'] as const

/** The spacing and the limits of a recording. place: all frames are placed once more, so */
export function PlaceAnew({
  was,
  range,
  busy,
  place,
  label,
}: {
  was: Chosen
  range?: { near: number; far: number }
  busy: boolean
  place(c: Chosen): void
  label: string
}) {
  const [draft, setDraft] = useState<Partial<Chosen>>({})
  const { spacing, near, far } = was
  const chosen: Chosen = { spacing, near, far, ...draft }
  const changed = NAMES.some((k) => chosen[k] !== was[k])
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
              place(chosen)
              setDraft({})
            }}
          >
            {label}
          </Button>
          <Button size="small" type="text" onClick={() => setDraft({})}>
            {t('As it was')}
          </Button>
        </div>
      )}
    </div>
  )
}
