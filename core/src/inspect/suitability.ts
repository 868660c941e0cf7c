/** Whether a scanner is fine enough for a tolerance. */
export interface Suitability {
  level: 'fine' | 'tight' | 'too-coarse'
  /** measurement error, with its uncertainty, as a share of the whole tolerance */
  share: number
}

/** share of the tolerance that the error of measurement may take: a tenth is comfortable, a fifth the most */
const COMFORTABLE = 1 / 10
const MOST = 1 / 5

/**
 * The golden rule of measuring: the error of measurement takes no more than a tenth, at worst a fifth, of the tolerance (common practice, no
 * source). error: largest verified error, uncertainty: expanded (k = 2), tolerance: its whole width; mm.
 */
export function suitability(error: number, uncertainty: number, tolerance: number): Suitability {
  const share = (Math.abs(error) + uncertainty) / tolerance
  return { share, level: share <= COMFORTABLE ? 'fine' : share <= MOST ? 'tight' : 'too-coarse' }
}
