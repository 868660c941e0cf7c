import { Modal } from 'antd'
import type { Step } from '@oak-gauge/contract'
import { formatValue } from '../looks/quantity.ts'
import { t } from '../words/t.ts'

/** Two steps side by side: settings that differ, and every number that both have. */
export function Compare({ a, b, onClose }: { a: Step; b: Step; onClose(): void }) {
  const other = new Map(b.evidence?.quantities.map((q) => [`${q.of ?? ''} ${q.id}`, q]))
  const rows = (a.evidence?.quantities ?? []).map((q) => ({ q, r: other.get(`${q.of ?? ''} ${q.id}`) })).filter((x) => x.r)
  const settings = [...new Set([...Object.keys(a.params), ...Object.keys(b.params)])].filter((k) => JSON.stringify(a.params[k]) !== JSON.stringify(b.params[k]))
  return (
    <Modal open width={680} title={t('Two steps side by side')} footer={null} onCancel={onClose}>
      <table className="compare">
        <thead>
          <tr className="right">
            <th className="left">{a.title === b.title ? a.title : `${a.title} / ${b.title}`}</th>
            <th>{t('first')}</th>
            <th>{t('second')}</th>
            <th>{t('difference')}</th>
          </tr>
        </thead>
        <tbody>
          {settings.map((k) => (
            <tr key={k} className="soft">
              <td>{t('setting {{k}}', { k })}</td>
              <td align="right">{JSON.stringify(a.params[k]) ?? t('usual')}</td>
              <td align="right">{JSON.stringify(b.params[k]) ?? t('usual')}</td>
              <td />
            </tr>
          ))}
          {rows.map(
            ({ q, r }) =>
              r && (
                <tr key={`${q.of ?? ''}${q.id}`}>
                  <td>
                    {q.of ? `${q.of}: ` : ''}
                    {q.name}
                  </td>
                  <td align="right" className="figure">
                    {formatValue(q)}
                  </td>
                  <td align="right" className="figure">
                    {formatValue(r)}
                  </td>
                  <td align="right" className="figure">
                    {typeof q.value === 'number' && typeof r.value === 'number' ? `${formatValue({ ...q, value: r.value - q.value })} ${q.unit}` : ''}
                  </td>
                </tr>
              ),
          )}
          {!rows.length && (
            <tr>
              <td colSpan={4} className="soft">
                {t('These two have no number in common.')}
              </td>
            </tr>
          )}
        </tbody>
      </table>
    </Modal>
  )
}
