import { readFileSync, writeFileSync } from 'node:fs'

/** Peak memory of this process since the last call, MB. */
function peak(): number {
  const status = readFileSync('/proc/self/status', 'utf8')
  return Number(/VmHWM:\s+(\d+)/.exec(status)?.[1] ?? 0) / 1024
}
function resetPeak(): void {
  ;(globalThis as { gc?: () => void }).gc?.()
  try {
    writeFileSync('/proc/self/clear_refs', '5')
  } catch {
    // no right to reset: the figure is then the peak since the start
  }
}

/** What it gave, how long it took, and how much memory this process held at the most meanwhile. */
export async function timed<T>(run: () => Promise<T>): Promise<{ result: T; seconds: number; megabytes: number }> {
  resetPeak()
  const start = performance.now()
  const result = await run()
  return { result, seconds: (performance.now() - start) / 1000, megabytes: peak() }
}
