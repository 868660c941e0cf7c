import { Line } from 'react-chartjs-2'
import type { ScannerDetail } from '@oak-gauge/contract'
import { axis, chartColour, PLAIN } from '../../looks/chart.ts'
import { t } from '../../words/t.ts'

/** Temperature since switching on, and the curve fitted to it: how far it still has to go. */
export function WarmUpChart({ scanner }: { scanner: ScannerDetail }) {
  const { minutes, celsius, final, tau } = scanner.warming
  const end = Math.ceil(Math.max(5, (minutes.at(-1) ?? 0) * 1.15, final !== null && tau !== null ? (minutes[0] ?? 0) + 3.5 * tau : 0))
  const fit =
    final !== null && tau !== null && minutes.length
      ? Array.from({ length: 60 }, (_, i) => {
          const t = minutes[0] + (i / 59) * (end - minutes[0])
          return { x: t, y: final - (final - celsius[0]) * Math.exp(-(t - minutes[0]) / tau) }
        })
      : []
  return (
    <Line
      aria-label={t('Temperature of the scanner since it was switched on')}
      data={{
        datasets: [
          { label: t('fitted'), data: fit, borderColor: chartColour('line'), borderWidth: 2, pointRadius: 0, borderDash: [5, 4] },
          { label: t('measured'), data: minutes.map((x, i) => ({ x, y: celsius[i] })), borderColor: chartColour('deep'), borderWidth: 2, pointRadius: 0 },
        ],
      }}
      options={{
        ...PLAIN,
        scales: { x: axis(t('minutes since switching on'), { min: 0, max: end }), y: axis('°C', { suggestedMin: 20 }) },
        plugins: { legend: { display: false } },
      }}
    />
  )
}
