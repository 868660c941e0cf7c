import { STAGES, type Step, type TrayItem } from '@oak-gauge/contract'

/** One line for a job's card: what the furthest stage came to, or what is to be done next. */
export function headlineOf(stage: string, path: Step[], tray: TrayItem[]): string {
  const passes = tray.filter((i) => i.role === 'pass').length
  // a plan or a map says nothing of passes that came in since
  const telling = path.filter((s) => s.shows.length && !(s.stage === 'Mark' && passes))
  const last = telling.reduce<Step | undefined>((a, b) => (a && STAGES.indexOf(b.stage) < STAGES.indexOf(a.stage) ? a : b), undefined)
  const q = last?.evidence?.quantities.find((x) => x.id === last.shows[0])
  if (last && q) return `${last.stage}: ${shown(q.value, q.unit)} ${q.name}`
  return passes ? `${stage}: ${passes} recorded passes wait` : 'Nothing recorded yet'
}

const shown = (v: number | string, unit: string) =>
  `${typeof v === 'string' ? v : unit === '' ? String(v) : v.toFixed(unit === '%' ? 1 : 3)}${unit ? ` ${unit}` : ''}`
