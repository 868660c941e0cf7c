import type { CaptureRun } from '@oak-gauge/contract'
import { t } from '../../words/t.ts'

/** How a recording stands, in words. */

export const STATE: Record<CaptureRun['tracking'], string> = {
  none: t('nothing yet'),
  first: t('first frame'),
  steady: t('steady'),
  weak: t('weak'),
  lost: t('lost'),
  finding: t('finding its place'),
}

const WHY: Record<string, string> = {
  elsewhere: t('It sees nothing that is known.'),
  off: t('What it sees does not lie on what was recorded.'),
  hidden: t('What it sees would be hidden by what was recorded.'),
  jump: t('It moved faster than a hand does.'),
  free: t('What it sees could slide or turn.'),
  alike: t('What it sees could lie elsewhere as well.'),
  moved: t('Something has moved: show again what did not lie on the surface.'),
}
export const whyOf = (run: Pick<CaptureRun, 'why'>): string => WHY[run.why] ?? ''

/** What to do now. */
export function askOf({ phase, tracking, table }: Pick<CaptureRun, 'phase' | 'tracking' | 'table'>, scanner: string): string {
  if (phase === 'ready' && table) return t('Put the part on the table of {{name}}, and record', { name: scanner })
  if (phase === 'ready') return t('Hold {{name}} over the part, and record', { name: scanner })
  if (phase === 'waiting') return t('The scanner is away')
  if (phase === 'held') return t('Held: nothing is recorded')
  if (phase === 'solving') return t('It is being stored')
  if (table) return tracking === 'lost' ? t('What it saw has no place yet: it waits') : t('The table turns, and each time a shot is taken')
  if (tracking === 'lost') return t('Lost: lead it back to where it knew its place')
  if (tracking === 'finding') return t('Hold it still: its place is being found')
  return t('Lead it over the part, from all sides')
}

/** What the main button does, and the space bar while both hands are at the part: it never ends a recording. */
export function mainOf({ phase, table, frames }: Pick<CaptureRun, 'phase' | 'table' | 'frames'>): { label: string; what: string; body?: object } | null {
  if (phase === 'recording') return { label: t('Hold'), what: 'hold' }
  if (phase !== 'ready' && phase !== 'held') return null
  if (table && frames && table.taken === table.shots) return { label: t('Again where it is missing'), what: 'again', body: { until: 'once' } }
  return { label: frames ? t('Go on') : t('Record'), what: 'record' }
}
