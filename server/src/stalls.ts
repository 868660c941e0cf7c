import { monitorEventLoopDelay } from 'node:perf_hooks'

/** ms between two looks, and between two turns of the record */
const RESOLUTION = 10
const TURN = 10_000
const TURNS = 6

/** How long the event loop of this process was held up at once in the last minute, ms: the longest time, and the mean. */
export function watchStalls(): () => { longest: number; mean: number } {
  const histogram = monitorEventLoopDelay({ resolution: RESOLUTION })
  histogram.enable()
  const past: { longest: number; mean: number }[] = []
  // what is recorded holds the wait between two looks itself
  const now = () => ({ longest: Math.max(0, histogram.max / 1e6 - RESOLUTION), mean: Math.max(0, histogram.mean / 1e6 - RESOLUTION) || 0 })
  setInterval(() => {
    past.push(now())
    if (past.length > TURNS) past.shift()
    histogram.reset()
  }, TURN).unref()
  return () => {
    const all = [...past, now()]
    return { longest: Math.max(...all.map((a) => a.longest)), mean: all.reduce((s, a) => s + a.mean, 0) / all.length }
  }
}
