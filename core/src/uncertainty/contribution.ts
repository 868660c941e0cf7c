/** Where an uncertainty comes from, and what each is called. */
export const SOURCES = {
  scanner: 'the scanner',
  frames: 'the tracking of the frames',
  alignment: 'the alignment of the passes',
  placing: 'the placing on the nominal',
  nominal: 'the nominal’s facets',
  surface: 'the noise of the surface',
} as const
export type Source = keyof typeof SOURCES

/** One part of an uncertainty. What is not known is unknown, never nothing. */
export interface Contribution {
  source: Source
  /** standard uncertainty, mm */
  u: number | 'unknown'
  /** a person said so, nothing measured it */
  stated?: boolean
}

/** Coverage factor: about 95 % of a normal distribution. */
export const COVERAGE = 2

/**
 * Combined standard uncertainty of contributions that do not depend on one another: root of the sum of squares
 * (JCGM 100:2008, 5.1.2). One that is unknown makes the whole unknown.
 */
export function combined(list: readonly Pick<Contribution, 'u'>[]): number | 'unknown' {
  let s = 0
  for (const { u } of list) {
    if (u === 'unknown' || !Number.isFinite(u)) return 'unknown'
    s += u * u
  }
  return Math.sqrt(s)
}

/** What a person states in place of what is not known: expanded uncertainties, mm. */
export function withStated(list: readonly Contribution[], stated: Partial<Record<Source, number | undefined>>): Contribution[] {
  return list.map((c) => {
    const said = stated[c.source]
    return c.u === 'unknown' && said !== undefined ? { source: c.source, u: said / COVERAGE, stated: true } : c
  })
}
