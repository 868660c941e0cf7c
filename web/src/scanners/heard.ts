import type { CaptureRun } from '@oak-gauge/contract'

type Range = CaptureRun['range']

/** Distances at which nothing need be said, mm: a fifth of the way from the best one towards either end of the range is left. */
export const goodRange = ({ near, ideal, far }: Range): [number, number] => [near + 0.2 * (ideal - near), far - 0.2 * (far - ideal)]

/** What is heard of a recording: a tone, and whether two ticks come again and again. */
export interface Heard {
  /** Hz; null: silence */
  tone: number | null
  ticks: boolean
}

/** Hz just beyond the good range, and how many octaves further it is at the end of the working range */
const NEAR = 660
const FAR = 330
const OCTAVES = 1

/** The nearer than good, the higher; the farther, the lower; silence when good; ticks while its place is lost. Nothing while nothing is recorded or aimed. */
export function heardOf({ phase, tracking, distance, range }: Pick<CaptureRun, 'phase' | 'tracking' | 'distance' | 'range'>): Heard {
  if (phase !== 'recording' && phase !== 'ready') return { tone: null, ticks: false }
  if (phase === 'recording' && (tracking === 'lost' || tracking === 'finding')) return { tone: null, ticks: true }
  const [from, to] = goodRange(range)
  if (distance === null || (distance >= from && distance <= to)) return { tone: null, ticks: false }
  const beyond = distance < from ? (from - distance) / (from - range.near) : (distance - to) / (range.far - to)
  const octaves = OCTAVES * Math.min(1.5, beyond)
  return { tone: distance < from ? NEAR * 2 ** octaves : FAR * 2 ** -octaves, ticks: false }
}
