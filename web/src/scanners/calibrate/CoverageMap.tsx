import type { Coverage } from '@oak-gauge/core/calibrate/coverage.ts'
import { t } from '../../words/t.ts'

/** Where in the image dots have been seen: sparse stipple (seen once) to solid (enough). */
export function CoverageMap({ coverage: c, label }: { coverage: Coverage; label: string }) {
  const seen = c.counts.filter((n) => n >= 3).length
  return (
    <figure className="coverage">
      <svg
        viewBox={`0 0 ${c.columns * 10} ${c.rows * 10}`}
        role="img"
        aria-label={t('{{label}}: {{counts}} % covered', { label, counts: Math.round((100 * seen) / c.counts.length) })}
      >
        <defs>
          <pattern id="stipple" width="5" height="5" patternUnits="userSpaceOnUse">
            <circle cx="1.6" cy="1.6" r="0.9" fill="var(--oak)" />
          </pattern>
        </defs>
        <rect width="100%" height="100%" fill="var(--card)" />
        {c.counts.map((n, i) => {
          if (n === 0) return null
          const x = (i % c.columns) * 10
          const y = Math.floor(i / c.columns) * 10
          return (
            <rect
              key={i}
              x={x}
              y={y}
              width="10"
              height="10"
              fill={n < 3 ? 'url(#stipple)' : 'var(--oak)'}
              fillOpacity={n < 3 ? 1 : Math.min(0.95, 0.35 + n / 60)}
            />
          )
        })}
        <rect width="100%" height="100%" fill="none" stroke="var(--line)" strokeWidth="1.5" />
      </svg>
      <figcaption className="hint">
        {label}, <span className="figure">{Math.round((100 * seen) / c.counts.length)}</span> {t('% covered')}
      </figcaption>
    </figure>
  )
}
