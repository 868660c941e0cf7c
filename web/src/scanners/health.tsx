import type { ScannerSummary, StageState } from '@oak-gauge/contract'
import { formatDay } from '../looks/when.ts'
import { t } from '../words/t.ts'

/** Health in the shapes of the rule: full = go, notched = due, ring = not fit for use. */
export const HEALTH_MARK: Record<ScannerSummary['health']['state'], StageState> = { go: 'good', due: 'look', 'no-go': 'open' }

/** The largest of the ball bar's distance errors, mm, with its expanded uncertainty. */
export const worstDistance = (s: Pick<ScannerSummary, 'verification'>) => s.verification?.rows.find((r) => r.name === 'distance')

/** What there is to say of a scanner in one line: what is in the way first. */
export function inOneLine(s: ScannerSummary): { text: string; urgent: boolean } {
  if (s.run?.phase === 'waiting') return { text: t('{{kind}} waits for the scanner', { kind: s.run.kind }), urgent: true }
  if (s.run) return { text: t('{{kind}} going on', { kind: s.run.kind }), urgent: false }
  if (s.link === 'lost') return { text: s.problem?.detail ?? t('The connection is lost.'), urgent: true }
  if (s.health.state === 'no-go') return { text: t('not fit for use: {{reason}}', { reason: lower(s.health.reason) }), urgent: true }
  if (s.health.state === 'due') return { text: t('due: {{reason}}', { reason: lower(s.health.reason) }), urgent: true }
  if (s.state && !s.state.warm) return { text: t('warming up{{warmIn}}', { warmIn: s.warmIn === null ? '' : `, ${minutes(s.warmIn)}` }), urgent: false }
  return { text: s.health.goodUntil ? t('good until {{goodUntil}}', { goodUntil: formatDay(s.health.goodUntil) }) : s.health.reason, urgent: false }
}

export const minutes = (m: number) => (m < 0.75 ? t('under a minute') : t('about {{m}} min', { m: Math.round(m) }))
/** The same where "about" goes without saying. */
export const shortMinutes = (m: number) => (m < 0.75 ? t('under a minute') : t('{{m}} min', { m: Math.round(m) }))
const lower = (s: string) => s.charAt(0).toLowerCase() + s.slice(1).replace(/\.$/, '')

/** Share of the calibration's time that is over, 0..1; 1 when it is due. */
export function timeUsed(s: ScannerSummary, now: number): number {
  if (!s.calibration || !s.health.goodUntil) return 1
  const from = new Date(s.calibration.at).getTime()
  return Math.min(1, Math.max(0, (now - from) / (s.health.goodUntil - from)))
}
