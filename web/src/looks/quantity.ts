import type { NamedQuantity } from '@oak-gauge/contract'
import { t } from '../words/t.ts'

/** What is needed of a quantity to write it down. */
export type Shown = Pick<NamedQuantity, 'value' | 'unit' | 'u'>

/** A number as it is shown: never more digits than its uncertainty or its unit deserves. */
export function formatValue(q: Shown): string {
  if (typeof q.value === 'string') return q.value
  const v = q.value
  if (!Number.isFinite(v)) return '–'
  if (q.unit === '') return Number.isInteger(v) ? count(v) : v.toPrecision(3)
  if (q.unit === '%') return v.toFixed(Math.abs(v) >= 99.95 || Math.abs(v) >= 10 ? 1 : 2)
  if (q.unit === 'mm²' || q.unit === 'mm³') return count(Number(v.toPrecision(6)))
  if (typeof q.u === 'number' && q.u > 0) return v.toFixed(digitsFor(2 * q.u))
  const a = Math.abs(v)
  // what rounds to nothing has no sign
  return v.toFixed(a >= 10 ? 2 : a >= 0.01 || a === 0 ? 3 : 4).replace(/^-(?=0\.0+$)/, '')
}

/** So many decimals, whatever they say: for columns, and where a device says how many it gives. What rounds to nothing has no sign. */
export const fixed = (v: number, decimals: number): string => (Number.isFinite(v) ? v.toFixed(decimals).replace(/^-(?=0(\.0+)?$)/, '') : '–')

/** Decimals that an expanded uncertainty of this size allows: two figures of it. */
const digitsFor = (U: number) => Math.max(0, Math.min(4, 1 - Math.floor(Math.log10(U))))

/** ± and the expanded uncertainty (k = 2), or that it is not known. */
export const formatU = (u: number | 'unknown' | undefined): string =>
  typeof u !== 'number' ? t('not known') : u > 0 ? `± ${(2 * u).toFixed(digitsFor(2 * u))}` : '± 0'

/** 1480000 as 1 480 000, with narrow spaces. */
export const count = (v: number) => (Number.isInteger(v) ? v.toString() : v.toString()).replace(/\B(?=(\d{3})+(?!\d))/g, '\u202f')

/** 1480000 as 1.48 M. */
export function short(v: number): string {
  if (v >= 1e6) return `${(v / 1e6).toPrecision(3)} M`
  if (v >= 1e4) return `${Math.round(v / 1e3)} k`
  return count(v)
}

export const bytes = (n: number) => (n >= 1e6 ? `${(n / 1e6).toFixed(1)} MB` : n >= 1e3 ? `${(n / 1e3).toFixed(1)} kB` : `${n} B`)

export function duration(ms: number): string {
  if (ms < 950) return `${Math.max(1, Math.round(ms))} ms`
  if (ms < 60_000) return `${(ms / 1000).toFixed(ms < 10_000 ? 1 : 0)} s`
  return `${Math.floor(ms / 60_000)} min ${Math.round((ms % 60_000) / 1000)} s`
}
