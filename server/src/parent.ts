/** Runs `end` when whoever started this process is gone: also when that happened before anybody listened. */
export function withParent(end: () => void): void {
  process.on('disconnect', end)
  if (process.send && !process.connected) end()
}

/**
 * How a process that ./start runs ends: when it is told to, or with its parent (Ctrl-C reaches the parent, which tells it). It has four seconds for what
 * onEnd() is given; end(code) ends it by itself.
 */
export function endsCleanly(): { end(code: number): void; onEnd(stop: () => Promise<void>): void; ending(): boolean } {
  let stop: () => Promise<void> = () => Promise.resolve()
  let stopping = false
  const end = (code: number) => {
    if (stopping) return
    stopping = true
    void stop().finally(() => process.exit(code))
    setTimeout(() => process.exit(code), 4000).unref()
  }
  process.on('SIGTERM', () => end(0))
  process.on('SIGINT', () => undefined)
  withParent(() => end(1))
  return { end, onEnd: (s) => (stop = s), ending: () => stopping }
}
