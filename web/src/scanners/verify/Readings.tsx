import type { BarReading } from '@oak-gauge/core/calibrate/ballbar.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

/** Every position as it was measured. */
export function Readings({ readings, limit }: { readings: BarReading[]; limit: number }) {
  if (!readings.length) return null
  return (
    <table className="numbers" data-readings={readings.length}>
      <thead>
        <tr>
          <th>{t('position')}</th>
          <th>{t('distance error')}</th>
          <th>U</th>
          <th>{t('form 1')}</th>
          <th>{t('size 1')}</th>
          <th>{t('form 2')}</th>
          <th>{t('size 2')}</th>
          <th>{t('points')}</th>
        </tr>
      </thead>
      <tbody>
        {readings.map((r, i) => (
          <tr key={i} className={Math.abs(r.distance) > limit ? 'bad' : ''}>
            <th>{i + 1}</th>
            <td>{fixed(r.distance, 4)}</td>
            <td>{fixed(2 * r.uncertainty, 4)}</td>
            <td>{fixed(r.spheres[0].form, 3)}</td>
            <td>{fixed(r.spheres[0].size, 4)}</td>
            <td>{fixed(r.spheres[1].form, 3)}</td>
            <td>{fixed(r.spheres[1].size, 4)}</td>
            <td>{r.spheres[0].points + r.spheres[1].points}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
