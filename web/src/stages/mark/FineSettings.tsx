import { Checkbox, Select } from 'antd'
import { Amount } from '../../looks/Amount.tsx'
import { USUAL, type Settings } from './plansettings.ts'
import { t } from '../../words/t.ts'

/** What the usual values do for nearly always. */
export function FineSettings({ s, patch }: { s: Settings; patch(p: Partial<Settings>): void }) {
  const left = (size: 'small' | 'large', label: string) => (
    <Amount
      label={label}
      unit=""
      positive={false}
      value={s.stock[size] ?? -1}
      usual={-1}
      onChange={(v) => {
        const { [size]: _, ...rest } = s.stock
        patch({ stock: v < 0 ? rest : { ...rest, [size]: Math.round(v) } })
      }}
      reason={t('left in the box; −1: not counted')}
    />
  )
  return (
    <div className="stack">
      <Amount
        label={t('Spacing')}
        value={s.spacing}
        usual={USUAL.spacing}
        onChange={(spacing) => patch({ spacing: Math.min(500, Math.max(10, spacing)) })}
        reason={t('between neighbours: 50 to 75 mm, three fingers')}
      />
      <Amount
        label={t('From edges')}
        value={s.clearEdge}
        usual={USUAL.clearEdge}
        onChange={(v) => patch({ clearEdge: Math.min(25, v) })}
        reason={t('nearer to an edge a marker leaves a bump or a gap')}
      />
      <Amount
        label={t('At least')}
        unit=""
        value={s.least}
        usual={USUAL.least}
        onChange={(v) => patch({ least: Math.max(3, Math.round(v)) })}
        reason={t('fewer in view and tracking ends')}
      />
      <div className="field">
        <label htmlFor="m-from">{t('Seen from')}</label>
        <Select
          id="m-from"
          className="control narrow"
          value={s.from}
          onChange={(from) => patch({ from })}
          options={[
            { value: 'auto', label: t('as markers allow') },
            { value: 'above', label: t('above the table') },
            { value: 'all', label: t('all round') },
          ]}
        />
      </div>
      <Checkbox checked={s.blocks} onChange={(e) => patch({ blocks: e.target.checked })}>
        {t('Angled blocks of 30° and 45° are at hand')}
      </Checkbox>
      <Checkbox checked={s.towers} onChange={(e) => patch({ towers: e.target.checked })}>
        {t('Towers are at hand')}
      </Checkbox>
      {left('small', t('3 mm'))}
      {left('large', t('6 mm'))}
    </div>
  )
}
