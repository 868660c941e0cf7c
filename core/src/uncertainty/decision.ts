export type Verdict = 'pass' | 'fail' | 'not decidable'

/**
 * Decision rule of ISO 14253-1: conforming is proven when the value lies inside the limits by more than its expanded uncertainty,
 * not conforming when it lies outside by more than that; in between nothing is proven.
 * limit: largest permitted absolute value, uncertainty: expanded (k = 2), both in the unit of the value. What is not known proves nothing: it never counts as zero.
 */
export function decide(value: number, limit: number, uncertainty: number | 'unknown'): Verdict {
  if (uncertainty === 'unknown' || !Number.isFinite(uncertainty)) return 'not decidable'
  const a = Math.abs(value)
  if (a + uncertainty <= limit) return 'pass'
  if (a - uncertainty > limit) return 'fail'
  return 'not decidable'
}

/** The worst of several: one failure fails all, one that cannot be decided leaves all undecided. */
export const worstVerdict = (v: Verdict[]): Verdict => (v.includes('fail') ? 'fail' : v.includes('not decidable') || v.length === 0 ? 'not decidable' : 'pass')
