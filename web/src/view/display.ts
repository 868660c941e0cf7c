import { unpack } from '@oak-gauge/contract'

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
  const asked = fetch(`/api/items/${item}/display`).then(async (r) => {
    if (!r.ok) throw new Error(`item ${item}: ${r.status}`)
    return unpack(await r.arrayBuffer())
  })
  asked.catch(() => kept.delete(item))
  kept.set(item, asked)
  if (kept.size > MOST_KEPT) kept.delete(kept.keys().next().value as string)
  return asked
}
