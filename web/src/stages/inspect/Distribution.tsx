import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip, type Plugin } from 'chart.js'
import { useMemo } from 'react'
import { Bar } from 'react-chartjs-2'
import { deviationColour } from '@oak-gauge/contract'
import type { StepEvidence } from '@oak-gauge/contract'
import { formatLength } from '../../looks/length.ts'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip)
Chart.defaults.font.family = "'Spline Sans Mono', monospace"

/** Share of the area by deviation, in the colours of the map, with dashed lines at the limits. */
export function Distribution({ histogram, limit, scale }: { histogram: NonNullable<StepEvidence['histogram']>; limit: number; scale: number }) {
  const { edges, shares } = histogram
  const middle = useMemo(() => shares.map((_, i) => (edges[i] + edges[i + 1]) / 2), [edges, shares])
  const limits: Plugin<'bar'> = useMemo(
    () => ({
      id: 'limits',
      afterDraw({ ctx, chartArea: a }) {
        const x = (v: number) => a.left + ((v - edges[0]) / (edges[edges.length - 1] - edges[0])) * (a.right - a.left)
        ctx.save()
        ctx.strokeStyle = getComputedStyle(document.documentElement).getPropertyValue('--slate')
        ctx.setLineDash([3, 3])
        for (const v of [-limit, limit]) {
          ctx.beginPath()
          ctx.moveTo(x(v), a.top)
          ctx.lineTo(x(v), a.bottom)
          ctx.stroke()
        }
        ctx.restore()
      },
    }),
    [edges, limit],
  )
  return (
    <div>
      <div className="distribution">
        <Bar
          key={`${limit} ${scale}`}
          aria-label={t('Distribution of the deviation')}
          data={{
            labels: middle.map((m) => formatLength(m)),
            datasets: [
              {
                data: shares.map((s) => 100 * s),
                backgroundColor: middle.map((m) => `rgb(${deviationColour(m, limit, scale).join(' ')})`),
                borderColor: 'rgb(90 70 45 / 0.5)',
                borderWidth: 0.6,
                barPercentage: 1,
                categoryPercentage: 0.96,
              },
            ],
          }}
          options={{
            animation: false,
            maintainAspectRatio: false,
            responsive: true,
            scales: { x: { display: false }, y: { display: false, type: 'linear', beginAtZero: true } },
            plugins: {
              legend: { display: false },
              tooltip: { callbacks: { label: (c) => t('{{raw}} % of the area', { raw: fixed(Number(c.raw), 2) }), title: (c) => `${c[0]?.label ?? ''} mm` } },
            },
          }}
          plugins={[limits]}
        />
      </div>
      <div className="figure hint ends">
        <span>{formatLength(edges[0])}</span>
        <span>0</span>
        <span className="right">+{formatLength(edges[edges.length - 1])} mm</span>
      </div>
    </div>
  )
}
