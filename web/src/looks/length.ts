const PER: Record<string, number> = { mm: 1, cm: 10, m: 1000, in: 25.4, '"': 25.4, ft: 304.8, um: 0.001, µm: 0.001 }

/** A length as people type it, in mm: 0.1, .1, "0,1", "4 in". Null when it is none. */
export function parseLength(text: string): number | null {
  const m = /^\s*([+-]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:e[+-]?\d+)?)\s*(mm|cm|m|in|"|ft|um|µm)?\s*$/i.exec(text.replace('±', ''))
  if (!m) return null
  const n = Number(m[1].replace(',', '.'))
  return Number.isFinite(n) ? n * PER[(m[2] ?? 'mm').toLowerCase()] : null
}

/** As many digits as were given, at least two decimals below 10 mm and at most four. */
export function formatLength(v: number): string {
  if (!Number.isFinite(v)) return '–'
  const a = Math.abs(v)
  const most = Math.max(0, Math.min(4, 3 - Math.floor(Math.log10(a || 1))))
  const least = a >= 100 ? 0 : a >= 10 ? 1 : 2
  const text = v.toFixed(most)
  const [whole, decimals = ''] = text.split('.')
  const kept = decimals.replace(/0+$/, '').padEnd(least, '0')
  return kept ? `${whole}.${kept}` : whole
}

/** Lengths that stand below one another: all with as many decimals as the one that needs most. */
export function formatLengths(list: readonly number[]): string[] {
  const decimals = Math.max(0, ...list.map((v) => formatLength(v).split('.')[1]?.length ?? 0))
  return list.map((v) => (Number.isFinite(v) ? v.toFixed(decimals) : '–'))
}
