import { openSource, type Heard } from './source.ts'

/** One line to the server for all windows of a browser: it has only six, and each that listens for itself would keep one. */
const scope = self as unknown as { onconnect: (e: MessageEvent) => void }
const windows = new Set<MessagePort>()
let open: boolean | undefined

scope.onconnect = ({ ports: [port] }) => {
  windows.add(port)
  // a window that goes says so; of one that was killed there is nothing to be known, and telling it does no harm
  port.onmessage = ({ data }: MessageEvent<'gone' | 'back'>) => void (data === 'gone' ? windows.delete(port) : windows.add(port))
  if (open !== undefined) port.postMessage({ open } satisfies Heard)
}
openSource((h) => {
  if ('open' in h) open = h.open
  for (const w of windows) w.postMessage(h)
})
