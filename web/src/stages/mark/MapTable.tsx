import type { TrayItem } from '@oak-gauge/contract'
import { inOrder, useMarkers } from './markers.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** The markers of a map, one line each. */
export function MapTable({ item }: { item: TrayItem }) {
  const markers = useMarkers(item)
  if (!markers) return null
  return (
    <div className="list">
      <table className="numbers">
        <thead>
          <tr>
            <th>{t('marker')}</th>
            <th>mm</th>
            <th>U, mm</th>
            <th>{t('frames')}</th>
          </tr>
        </thead>
        <tbody>
          {inOrder(markers).map((m) => (
            <tr key={m.id}>
              <th>{m.id}</th>
              <td>{m.diameter > 0 ? fixed(m.diameter, 1) : ''}</td>
              <td data-mapped-u={m.id}>{Number.isNaN(m.u) ? '' : fixed(2 * m.u, 4)}</td>
              <td>{m.frames || ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
