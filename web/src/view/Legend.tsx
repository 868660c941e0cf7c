import { BEYOND_EXTRA, BEYOND_MISSING, EXTRA, LINEN, MISSING, type Rgb } from '@oak-gauge/contract'
import { formatLength, formatLengths } from '../looks/length.ts'
import { useAppSelector } from '../store.ts'
import { t } from '../words/t.ts'

const css = (c: Rgb) => `rgb(${c.join(' ')})`
const STEP = 30

/** The colour scale: stepped, hatched beyond its ends, the sign in words as well. */
export function Legend() {
  const { limit, scale } = useAppSelector((s) => s.view)
  const bands: { colour: Rgb; hatched?: boolean }[] = [
    { colour: BEYOND_EXTRA, hatched: true },
    ...[...EXTRA].reverse().map((colour) => ({ colour })),
    { colour: LINEN },
    ...MISSING.map((colour) => ({ colour })),
    { colour: BEYOND_MISSING, hatched: true },
  ]
  const steps = formatLengths([0, 1, 2, 3, 4].map((k) => limit + ((scale - limit) * k) / 4))
  const marks = [
    ...[4, 3, 2, 1, 0].map((k, i) => ({ y: (i + 1) * STEP, text: `+${steps[k]}` })),
    ...[0, 1, 2, 3, 4].map((k, i) => ({ y: (i + 6) * STEP, text: `−${steps[k]}` })),
  ]
  const h = bands.length * STEP
  return (
    <div
      className="legend"
      role="img"
      aria-label={t('Colours from {{low}} to {{high}} mm; linen within {{limit}} mm', {
        low: formatLength(-scale),
        high: formatLength(scale),
        limit: formatLength(limit),
      })}
    >
      <svg width="132" height={h + 22}>
        <defs>
          <pattern id="beyond" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(-45)">
            <rect width="6" height="2" fill="#f7f2e8" />
          </pattern>
        </defs>
        {bands.map((b, i) => (
          <g key={i}>
            <rect x="112" y={i * STEP} width="18" height={STEP} fill={css(b.colour)} />
            {b.hatched && <rect x="112" y={i * STEP} width="18" height={STEP} fill="url(#beyond)" />}
          </g>
        ))}
        <rect x="112" y="0.5" width="18" height={h - 1} fill="none" stroke="var(--oak)" strokeWidth="0.7" />
        {marks.map((m) => (
          <text key={m.text} x="108" y={m.y + 4} textAnchor="end" className="figure" fontSize="11.5" fill="var(--ink)">
            {m.text}
          </text>
        ))}
        {[
          ['beyond', 0.5],
          ['extra', 3],
          ['nominal', 5.5],
          ['missing', 8],
          ['beyond', 10.5],
        ].map(([text, y], i) => (
          <text key={i} x="54" y={Number(y) * STEP + 4} textAnchor="end" fontSize="11" fill="var(--soft)">
            {text}
          </text>
        ))}
        <text x="130" y={h + 15} textAnchor="end" fontSize="11" fill="var(--soft)">
          mm
        </text>
      </svg>
    </div>
  )
}
