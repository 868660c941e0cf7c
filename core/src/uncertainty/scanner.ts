/** What a verification on the ball bar says of a scanner. */
export interface DistanceError {
  /** largest error of a sphere distance, mm */
  error: number
  /** its expanded uncertainty (k = 2), mm */
  U: number
}

/**
 * Standard uncertainty of a scanner at one place, mm: its largest verified error of a distance as the half width of a
 * rectangular distribution (JCGM 100:2008, 4.3.7), with the uncertainty of the verification itself. Of parts much larger than
 * the ball bar it knows nothing.
 */
export const scannerUncertainty = (v: DistanceError): number => Math.hypot(Math.abs(v.error) / Math.sqrt(3), v.U / 2)
