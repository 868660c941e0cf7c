import type { ScannerSpec } from '../scanner/spec.ts'

/** What is known of a scanner that bears on whether its calibration still holds. Times in ms since 1970. */
export interface HealthFacts {
  now: number
  limits: ScannerSpec['limits']
  /** the calibration in use: when it was made, °C of the room then, and whether it was a go */
  calibration: { at: number; celsius: number; verdict: 'go' | 'no-go'; cold: boolean } | null
  /** last verification since that calibration */
  verification: { at: number; verdict: 'pass' | 'fail' | 'not decidable' } | null
  /** last knock that the scanner reported */
  shock: number | null
  /** last time it was used */
  used: number | null
  /** °C of the room now, null while it is not connected */
  celsius: number | null
}

export interface Health {
  /** go: use it. due: it works, calibrate first. no-go: measured to be off, or never calibrated */
  state: 'go' | 'due' | 'no-go'
  /** one sentence */
  reason: string
  /** until when the calibration is good if nothing happens, ms; null when it is not */
  goodUntil: number | null
}

const DAY = 86_400_000

/**
 * Whether a scanner may be trusted now, and until when. Weekly in regular use, sooner when unused, at once after a knock or
 * a change of temperature (common practice, no source; the limits are the scanner's own).
 */
export function scannerHealth(f: HealthFacts): Health {
  const c = f.calibration
  const no = (state: 'due' | 'no-go', reason: string): Health => ({ state, reason, goodUntil: null })
  if (!c) return no('no-go', 'Never calibrated here.')
  if (c.verdict === 'no-go') return no('no-go', 'The last calibration is not fit for use.')
  const v = f.verification && f.verification.at >= c.at ? f.verification : null
  const shocked = f.shock !== null && f.shock > c.at
  if (v && v.verdict === 'fail') return no('no-go', 'The ball bar showed errors beyond the limits.')
  // a passed verification after the knock clears it
  if (shocked && !(v && v.verdict === 'pass' && v.at > f.shock!)) return no('due', 'It had a knock since it was calibrated.')
  if (c.cold) return no('due', 'It was calibrated cold.')
  if (f.celsius !== null && Math.abs(f.celsius - c.celsius) > f.limits.kelvin)
    return no('due', `The room is ${Math.abs(f.celsius - c.celsius).toFixed(1)} K ${f.celsius > c.celsius ? 'warmer' : 'colder'} than when it was calibrated.`)
  const idle = Math.max(c.at, f.used ?? 0) + f.limits.idleDays * DAY
  const weekly = c.at + f.limits.days * DAY
  const goodUntil = Math.min(idle, weekly)
  if (f.now > weekly) return no('due', `Calibrated ${Math.floor((f.now - c.at) / DAY)} days ago.`)
  if (f.now > idle) return no('due', `Unused for ${Math.floor((f.now - Math.max(c.at, f.used ?? 0)) / DAY)} days.`)
  return {
    state: 'go',
    reason: v ? (v.verdict === 'pass' ? 'Calibrated and verified.' : 'Calibrated; the verification was not decidable.') : 'Calibrated.',
    goodUntil,
  }
}

/**
 * Remaining time until a device is warm, from its own temperature readings: an exponential approach fitted by least squares (final
 * value searched, the rest linear). Times ms, °C. null: too few readings, or no approach in them.
 */
export function warmUpFit(times: ArrayLike<number>, celsius: ArrayLike<number>): { final: number; tau: number } | null {
  const n = times.length
  if (n < 6) return null
  const last = celsius[n - 1]
  const span = last - celsius[0]
  if (!(span > 0.3)) return null
  let best: { final: number; tau: number } | null = null
  let least = Infinity
  for (let k = 0; k <= 200; k++) {
    // final temperature from just above the last reading to five times the rise so far
    const final = last + span * (0.004 * 1.035 ** k)
    let [s, st, stt, sy, sty] = [0, 0, 0, 0, 0]
    for (let i = 0; i < n; i++) {
      const y = Math.log(final - celsius[i])
      if (!Number.isFinite(y)) continue
      const t = (times[i] - times[0]) / 1000
      // readings near the end weigh as their logarithm is certain
      const w = (final - celsius[i]) ** 2
      s += w
      st += w * t
      stt += w * t * t
      sy += w * y
      sty += w * t * y
    }
    const det = s * stt - st * st
    const slope = (s * sty - st * sy) / det
    const offset = (sy * stt - sty * st) / det
    if (!(slope < 0)) continue
    let e = 0
    for (let i = 0; i < n; i++) e += (final - Math.exp(offset + (slope * (times[i] - times[0])) / 1000) - celsius[i]) ** 2
    if (e < least) {
      least = e
      best = { final, tau: (-1 / slope) * 1000 }
    }
  }
  return best
}
