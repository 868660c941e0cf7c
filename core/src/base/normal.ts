/** Share of a standard normal distribution below s (Abramowitz and Stegun 7.1.26; error under 1e-7). */
export function normalBelow(s: number): number {
  const x = Math.abs(s) * Math.SQRT1_2
  const t = 1 / (1 + 0.3275911 * x)
  const e = 1 - t * (0.254829592 + t * (-0.284496736 + t * (1.421413741 + t * (-1.453152027 + t * 1.061405429)))) * Math.exp(-x * x)
  return s < 0 ? 0.5 * (1 - e) : 0.5 * (1 + e)
}
