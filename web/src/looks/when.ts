import { useState } from 'react'
import { t } from '../words/t.ts'

const DAYS = [t('Sun'), t('Mon'), t('Tue'), t('Wed'), t('Thu'), t('Fri'), t('Sat')]
const MONTHS = [
  t('January'),
  t('February'),
  t('March'),
  t('April'),
  t('May'),
  t('June'),
  t('July'),
  t('August'),
  t('September'),
  t('October'),
  t('November'),
  t('December'),
]

/** A day within the next week by its name, else by its date. */
export function formatDay(at: number | string, now = Date.now()): string {
  const d = new Date(at)
  const away = (d.getTime() - now) / 86_400_000
  if (away > -0.5 && away < 6.5) return `${DAYS[d.getDay()]} ${clock(d)}`
  return `${d.getDate()} ${MONTHS[d.getMonth()]}`
}

/** 24 November, 14:05 */
export function formatMoment(at: number | string): string {
  const d = new Date(at)
  return `${d.getDate()} ${MONTHS[d.getMonth()]}, ${clock(d)}`
}

const clock = (d: Date) => `${String(d.getHours()).padStart(2, '0')}:${String(d.getMinutes()).padStart(2, '0')}`

/** The time when the page last had reason to look; days are what it is needed for, so that it need not tick. */
export function useNow(): number {
  const [now] = useState(() => Date.now())
  return now
}
