import { quantity, type Step } from '@oak-gauge/contract'
import { SOURCES } from '@oak-gauge/core/uncertainty/contribution.ts'
import { lineageFigures, type LineageFigures } from '@oak-gauge/core/uncertainty/lineage.ts'
import { Amount } from '../../looks/Amount.tsx'
import { formatU } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** What a person answers for where nothing measured it: expanded uncertainties (k = 2), mm. */
export type Stated = Partial<Record<'scanner' | 'alignment' | 'placing', number>>
const WHY: Record<keyof Stated, string> = {
  scanner: t('no verification was known when these passes came in; take it from the certificate of the scanner'),
  alignment: t('the passes were not adjusted together, or moved since'),
  placing: t('the part was not laid on this nominal by best fit'),
}

const isKnown = (f: LineageFigures, k: keyof Stated) =>
  k === 'alignment' ? f.alignment !== 'unknown' && f.alignment.every((p) => p.covariance) : f[k] !== 'unknown'

/** Fields for what the ledger does not know of this part's uncertainty: without them no flag can be decided. */
export function NotKnown({ path, slot, stated, onChange }: { path: Step[]; slot: string; stated: Stated; onChange(s: Stated): void }) {
  const figures = lineageFigures(path, slot)
  const open = (Object.keys(WHY) as (keyof Stated)[]).filter((k) => !isKnown(figures, k))
  if (!open.length) return null
  const set = (k: keyof Stated, v: number | undefined) => {
    const { [k]: _, ...rest } = stated
    void _
    onChange(v === undefined ? rest : { ...rest, [k]: v })
  }
  return (
    <>
      {open.some((k) => stated[k] === undefined) && (
        <p className="note" data-not-known>
          {t('How uncertain a flag is cannot be told yet: say what you know, or the verdict stays open.')}
        </p>
      )}
      {open.map((k) => (
        <Amount
          key={k}
          label={t('U of {{k}}', { k: SOURCES[k] })}
          plusMinus
          value={stated[k] ?? null}
          onChange={(v) => set(k, v)}
          onClear={() => set(k, undefined)}
          reason={`k = 2; ${WHY[k]}`}
        />
      ))}
    </>
  )
}

/** What the uncertainty of a flag is made of, the largest first. */
export function BudgetTable({ flag, number }: { flag: Step; number: number }) {
  const d = quantity(flag, 'deviation')
  if (!d?.parts) return null
  const size = (p: { u: number | 'unknown' }) => (p.u === 'unknown' ? Infinity : p.u)
  const label = flag.params['label'] as string | undefined
  return (
    <details className="fine" data-budget={number} open>
      <summary>
        {t('Flag {{number}}{{label}}: U = {{u}} {{unit}}, made of', {
          number,
          label: label ? ` ${label}` : '',
          u: formatU(d.u).replace('± ', ''),
          unit: d.u === 'unknown' ? '' : 'mm',
        })}
      </summary>
      <dl className="rows">
        {[...d.parts]
          .sort((a, b) => size(b) - size(a))
          .map((p) => (
            <div key={p.source} className="apart">
              <dt>
                {SOURCES[p.source]}
                {p.stated ? t(', stated') : ''}
              </dt>
              <dd data-part={p.source}>
                {formatU(p.u)} {p.u === 'unknown' ? '' : 'mm'}
              </dd>
            </div>
          ))}
      </dl>
    </details>
  )
}
