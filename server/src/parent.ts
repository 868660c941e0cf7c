/** Runs `end` when whoever started this process is gone: also when that happened before anybody listened. */
export function withParent(end: () => void): void {
  process.on('disconnect', end)
  if (process.send && !process.connected) end()
}
