import { Link } from 'react-router'
import type { ScannerSummary } from '@oak-gauge/contract'
import { suitability, type Suitability } from '@oak-gauge/core/inspect/suitability.ts'
import { formatLength } from '../../looks/length.ts'
import { worstDistance } from '../../scanners/health.tsx'
import { fixed } from '../../looks/quantity.ts'
import { t } from '../../words/t.ts'
import { Words } from '../../words/Words.tsx'

/** The largest verified error against the tolerance of the job; null without one or the other. */
export function fitness(s: ScannerSummary, tolerance: number | null): (Suitability & { error: number }) | null {
  const worst = worstDistance(s)
  if (!worst) return null
  const error = Math.abs(worst.value) + worst.uncertainty
  return { error, ...(tolerance ? suitability(worst.value, worst.uncertainty, tolerance) : { level: 'fine' as const, share: 0 }) }
}

/** In words: may this scanner judge this tolerance? */
export function FitWords({ scanner, tolerance }: { scanner: ScannerSummary; tolerance: number | null }) {
  const fit = fitness(scanner, tolerance)
  if (!fit)
    return (
      <p className="note" data-fit="unknown">
        {t('{{name}} was not verified since it was calibrated: how fine it measures is not known.', { name: scanner.name })}{' '}
        <Link to={`/scanners/${scanner.id}/Verify`}>{t('Verify it')}</Link>
      </p>
    )
  if (!tolerance) return null
  const said = {
    fine: t('a tenth or less: fine for this tolerance.'),
    tight: t('between a tenth and a fifth: it will do, but results near the limits may not be decidable.'),
    'too-coarse': t('more than a fifth: too coarse for this tolerance. Choose a finer scanner, or a wider tolerance.'),
  }[fit.level]
  return (
    <p className={fit.level === 'fine' ? 'hint' : 'note'} data-fit={fit.level}>
      <Words
        of={
          'On the ball bar {{name}} was off by up to <figure>{{error}}</figure> mm, its uncertainty included. That is <figure>{{share}}</figure> % of the tolerance of <figure>{{tolerance}}</figure> mm, {{said}}'
        }
        values={{
          name: scanner.name,
          error: fixed(fit.error, 3),
          share: fixed(100 * fit.share, fit.share < 0.095 ? 1 : 0),
          tolerance: formatLength(tolerance),
          said,
        }}
        parts={{ figure: <span className="figure" /> }}
      />
    </p>
  )
}
