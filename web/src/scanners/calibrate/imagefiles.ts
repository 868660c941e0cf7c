import type { Problem } from '@oak-gauge/contract'
import { API, addressOf } from '@oak-gauge/contract'
import { problemOf } from '../../api.ts'

/** Pairs among files: the same name but for left and right. In the order of their names. */
export function pairsOf(files: File[]): { left: File; right: File }[] {
  const sides = { left: new Map<string, File>(), right: new Map<string, File>() }
  for (const f of files) {
    const side = /left/i.test(f.name) ? 'left' : /right/i.test(f.name) ? 'right' : null
    if (side) sides[side].set(f.name.replace(/left|right/i, '*').toLowerCase(), f)
  }
  return [...sides.left.keys()].sort().flatMap((k) => {
    const left = sides.left.get(k)
    const right = sides.right.get(k)
    return left && right ? [{ left, right }] : []
  })
}

/** Sends one pair to the open calibration; what went wrong, or null. */
export async function sendPair(scanner: string, pair: number, p: { left: File; right: File }): Promise<Problem | null> {
  for (const side of ['left', 'right'] as const) {
    const r = await fetch(addressOf(API.bringImage, { id: scanner }, { side, pair: String(pair), name: p[side].name }), {
      method: 'PUT',
      body: p[side],
    })
    if (!r.ok) return problemOf({ data: (await r.json()) as unknown })
  }
  return null
}
