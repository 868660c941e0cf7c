import { Checkbox, Select } from 'antd'
import { Amount } from '../../looks/Amount.tsx'
import { USUAL, type Settings } from './plansettings.ts'

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
      reason="left in the box; −1: not counted"
    />
  )
  return (
    <div className="stack">
      <Amount
        label="Spacing"
        value={s.spacing}
        usual={USUAL.spacing}
        onChange={(spacing) => patch({ spacing: Math.min(500, Math.max(10, spacing)) })}
        reason="between neighbours: 50 to 75 mm, three fingers"
      />
      <Amount
        label="From edges"
        value={s.clearEdge}
        usual={USUAL.clearEdge}
        onChange={(v) => patch({ clearEdge: Math.min(25, v) })}
        reason="nearer to an edge a marker leaves a bump or a gap"
      />
      <Amount
        label="At least"
        unit=""
        value={s.least}
        usual={USUAL.least}
        onChange={(v) => patch({ least: Math.max(3, Math.round(v)) })}
        reason="fewer in view and tracking ends"
      />
      <div className="field">
        <label htmlFor="m-from">Seen from</label>
        <Select
          id="m-from"
          className="control narrow"
          value={s.from}
          onChange={(from) => patch({ from })}
          options={[
            { value: 'auto', label: 'as markers allow' },
            { value: 'above', label: 'above the table' },
            { value: 'all', label: 'all round' },
          ]}
        />
      </div>
      <Checkbox checked={s.blocks} onChange={(e) => patch({ blocks: e.target.checked })}>
        Angled blocks of 30° and 45° are at hand
      </Checkbox>
      <Checkbox checked={s.towers} onChange={(e) => patch({ towers: e.target.checked })}>
        Towers are at hand
      </Checkbox>
      {left('small', '3 mm')}
      {left('large', '6 mm')}
    </div>
  )
}
