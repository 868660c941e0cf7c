import { cholesky, choleskySolve } from '../base/solve.ts'

export interface Slopes {
  /** at u = v = 0, and how it changes with each */
  value: number
  u: number
  v: number
  /** weighted squares of the values that the plane explains */
  explained: number
  /** of a slope, the mean of both, where a value of weight 1 has a variance of 1 */
  variance: number
}

/** A plane through weighted values by least squares: added up one by one, nothing is kept of them. */
export function slopes() {
  const h = new Float64Array(9)
  const g = new Float64Array(3)
  return {
    clear(): void {
      h.fill(0)
      g.fill(0)
    },
    add(w: number, u: number, v: number, value: number): void {
      h[0] += w
      h[3] += w * u
      h[4] += w * u * u
      h[6] += w * v
      h[7] += w * u * v
      h[8] += w * v * v
      g[0] += w * value
      g[1] += w * u * value
      g[2] += w * v * value
    },
    /** sum of the weights */
    weight: () => h[0],
    /** loose: slopes of which nothing is told are held at nothing by so much of the weight. Undefined where the values do not tell a plane. */
    solve(loose = 0): Slopes | undefined {
      if (loose > 0) for (const d of [4, 8]) h[d] += loose * h[0] + 1e-12
      const f = h[0] > 0 ? cholesky(h, 3) : null
      if (!f) return undefined
      const [value, u, v] = choleskySolve(f, g, 3)
      const variance = 0.5 * (choleskySolve(f, Float64Array.of(0, 1, 0), 3)[1] + choleskySolve(f, Float64Array.of(0, 0, 1), 3)[2])
      return { value, u, v, explained: value * g[0] + u * g[1] + v * g[2], variance }
    },
  }
}
