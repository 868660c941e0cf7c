import { goodRange } from './heard.ts'
import { t } from '../words/t.ts'

/** Working distance: a carriage on a scale, with a bracket over the good range. */
export function WorkingDistance({
  range,
  distance: d,
  nothing,
}: {
  range: { near: number; ideal: number; far: number }
  distance: number | null
  nothing: string
}) {
  const { near, ideal, far } = range
  const low = near - 0.25 * (far - near)
  const span = 1.5 * (far - near)
  const x = (v: number) => Math.min(290, Math.max(10, 10 + (280 * (v - low)) / span))
  const good = goodRange(range)
  const word = d === null ? nothing : d < good[0] ? t('too near') : d > good[1] ? t('too far') : t('good')
  return (
    <div className="distance" role="img" aria-label={t('Working distance {{d}}{{word}}', { d: d === null ? '' : `${Math.round(d)} mm, `, word })}>
      <svg viewBox="0 0 300 34" width="300" height="34">
        <line x1="10" x2="290" y1="22" y2="22" stroke="var(--deep)" />
        {[near, ideal, far].map((v) => (
          <g key={v}>
            <line x1={x(v)} x2={x(v)} y1="18" y2="26" stroke="var(--deep)" />
          </g>
        ))}
        <path d={`M${x(good[0])} 16V12H${x(good[1])}V16`} fill="none" stroke="var(--oak)" strokeWidth="2" />
        {d !== null && <path d={`M${x(d)} 22l-5 9h10z`} fill="var(--slate)" />}
      </svg>
      <span className="hint">
        {d === null ? '' : <span className="figure">{Math.round(d)} mm</span>} {word}
      </span>
    </div>
  )
}
