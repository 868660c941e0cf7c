import { Line } from 'react-chartjs-2'
import { axis, chartColour, PLAIN } from '../../looks/chart.ts'
import { formatMoment, useNow } from '../../looks/when.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

export interface TrendPoint {
  at: string
  value: number
  /** expanded uncertainty, drawn as a bar */
  uncertainty?: number
  good: boolean
}

/** Every run so far with its limit: dots over days, brick and hollow where the limit was passed. */
export function Trend({ label, unit, limit, points }: { label: string; unit: string; limit: number; points: TrendPoint[] }) {
  const now = useNow()
  const x = (p: TrendPoint) => new Date(p.at).getTime()
  const first = Math.min(...points.map(x), now - 7 * 86_400_000)
  const last = Math.max(now, ...points.map(x))
  const margin = 0.04 * (last - first)
  const day = (t: number) => new Date(t).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
  return (
    <figure>
      <figcaption>
        <b>{label}</b> <span className="soft">{t('{{unit}}, limit {{limit}}', { unit, limit })}</span>
      </figcaption>
      <div className="plot">
        <Line
          aria-label={t('{{label}} of every run, {{unit}}', { label, unit })}
          data={{
            datasets: [
              {
                label: t('limit'),
                data: [
                  { x: first - margin, y: limit },
                  { x: last + margin, y: limit },
                ],
                borderColor: chartColour('brick'),
                borderDash: [6, 4],
                borderWidth: 1.4,
                pointRadius: 0,
              },
              {
                label,
                data: points.map((p) => ({ x: x(p), y: p.value })),
                borderColor: chartColour('oak'),
                borderWidth: 1.4,
                pointRadius: 4.5,
                pointBackgroundColor: points.map((p) => (p.good ? chartColour('deep') : 'transparent')),
                pointBorderColor: points.map((p) => (p.good ? chartColour('deep') : chartColour('brick'))),
                pointBorderWidth: 2,
              },
            ],
          }}
          options={{
            ...PLAIN,
            scales: {
              x: axis('', {
                min: first - margin,
                max: last + margin,
                ticks: { color: chartColour('soft'), maxTicksLimit: 8, callback: (v: number | string) => day(Number(v)) },
              }),
              y: axis('', { beginAtZero: true, suggestedMax: 1.15 * limit }),
            },
            plugins: {
              legend: { display: false },
              tooltip: {
                filter: (c) => c.datasetIndex === 1,
                callbacks: { title: (c) => formatMoment(points[c[0]?.dataIndex ?? 0]?.at ?? 0), label: (c) => `${fixed(Number(c.parsed.y), 4)} ${unit}` },
              },
            },
          }}
        />
      </div>
    </figure>
  )
}
