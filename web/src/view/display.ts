import { API, addressOf, unpack } from '@oak-gauge/contract'

export type Arrays = Record<string, Float32Array | Uint32Array | Uint8Array>

const kept = new Map<string, Promise<Arrays>>()
const MOST_KEPT = 40

/** What the screen shows of an item: fetched once, kept while it is among the latest. Items never change, so nothing has to be asked again. */
export function displayOf(item: string): Promise<Arrays> {
  const known = kept.get(item)
  if (known) {
    kept.delete(item)
    kept.set(item, known)
    return known
  }
  const asked = read(item)
  asked.catch(() => kept.delete(item))
  kept.set(item, asked)
  if (kept.size > MOST_KEPT) kept.delete(kept.keys().next().value as string)
  return asked
}

/** All of an item, not only what a screen needs at first. */
export const wholeOf = (item: string, signal: AbortSignal): Promise<Arrays> => read(item, signal, { whole: '1' })

async function read(item: string, signal: AbortSignal | null = null, query: Record<string, string> = {}): Promise<Arrays> {
  const r = await fetch(addressOf(API.display, { id: item }, query), { signal })
  if (!r.ok) throw new Error(`item ${item}: ${r.status}`)
  return unpack(await r.arrayBuffer())
}

const reading = new Map<string, AbortController>()
const forgotten = new Set<string>()

/** What a preview would take away: slot to the flags of its shown points. Null when it was forgotten meanwhile. */
export async function previewOf(
  job: string,
  step: string,
  slotOf: (port: string, place: number) => string | undefined,
): Promise<Map<string, Uint8Array> | null> {
  if (forgotten.has(step)) return null
  const stop = new AbortController()
  reading.set(step, stop)
  const { signal } = stop
  try {
    const r = await fetch(addressOf(API.stepItems, { id: job, step }), { signal })
    const items = (await r.json()) as { id: string; port: string; place: number }[]
    const gone = new Map<string, Uint8Array>()
    for (const i of items) {
      const slot = slotOf(i.port, i.place)
      const arrays = await read(i.id, signal)
      if (slot && arrays['gone']) gone.set(slot, arrays['gone'] as Uint8Array)
    }
    return gone
  } catch (e) {
    if (signal.aborted) return null
    throw e
  } finally {
    reading.delete(step)
  }
}

/** Stops reading a preview: to be called before it is deleted on the server, where the rest of it would not be found any more. */
export function forgetPreview(step: string): void {
  forgotten.add(step)
  reading.get(step)?.abort()
}
