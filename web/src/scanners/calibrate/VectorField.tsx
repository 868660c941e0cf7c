import type { Coverage } from '@oak-gauge/core/calibrate/coverage.ts'
import type { Field } from '@oak-gauge/core/calibrate/calibration.ts'
import { t } from '../../words/t.ts'

const CELL = 40

/** Reprojection error over the image: in each cell an arrow for the mean of projected minus seen, over how densely it was looked at. */
export function VectorField({ field: f, coverage: c, name, scale }: { field: Field; coverage: Coverage; name: string; scale: number }) {
  const w = f.columns * CELL
  const h = f.rows * CELL
  const dense = Math.max(1, ...c.counts)
  return (
    <figure className="field-picture">
      <svg viewBox={`0 0 ${w} ${h}`} role="img" aria-label={t('Reprojection error of the {{name}} camera as a field of arrows', { name })}>
        <rect width={w} height={h} fill="var(--card)" />
        {c.counts.map((n, i) => (
          <rect
            key={i}
            x={((i % c.columns) * w) / c.columns}
            y={(Math.floor(i / c.columns) * h) / c.rows}
            width={w / c.columns}
            height={h / c.rows}
            fill="var(--wood-1)"
            fillOpacity={n ? 0.15 + 0.7 * Math.sqrt(n / dense) : 0}
          />
        ))}
        {f.counts.map((n, i) => {
          const x = ((i % f.columns) + 0.5) * CELL
          const y = (Math.floor(i / f.columns) + 0.5) * CELL
          if (n === 0) return <path key={i} d={`M${x - 3} ${y}h6`} stroke="var(--line)" strokeWidth="1.5" />
          // beyond two cells an arrow says no more by being longer
          const cut = Math.min(1, (2 * scale) / Math.max(1e-12, Math.hypot(f.u[i], f.v[i])))
          const u = ((cut * f.u[i]) / scale) * CELL
          const v = ((cut * f.v[i]) / scale) * CELL
          return (
            <g key={i} stroke="var(--slate)" fill="var(--slate)">
              <line x1={x} y1={y} x2={x + u} y2={y + v} strokeWidth="2" />
              <circle cx={x} cy={y} r="2.4" stroke="none" />
            </g>
          )
        })}
        <rect width={w} height={h} fill="none" stroke="var(--line)" strokeWidth="2" />
      </svg>
      <figcaption className="hint">{t('{{name}} camera', { name })}</figcaption>
    </figure>
  )
}

/** px that one cell's width stands for: a round number above what nine in ten cells show; a single odd dot must not flatten the rest. */
export function fieldScale(fields: Field[]): number {
  const lengths = fields.flatMap((f) => f.counts.flatMap((n, i) => (n >= 4 ? [Math.hypot(f.u[i], f.v[i])] : []))).sort((a, b) => a - b)
  const most = Math.max(1e-4, lengths[Math.floor(0.9 * lengths.length)] ?? 0)
  const step = 10 ** Math.floor(Math.log10(most))
  return (most > 5 * step ? 10 : most > 2 * step ? 5 : 2) * step
}
