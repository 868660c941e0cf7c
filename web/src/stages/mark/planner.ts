import type { FromPlanner, ToPlanner } from './planworker.ts'

type Ask<K extends ToPlanner['kind']> = Omit<Extract<ToPlanner, { kind: K }>, 'kind' | 'n'>
type Placed = Extract<FromPlanner, { kind: 'placed' }>['place']

/** The planner's thread, one for the page: it keeps the part it was last given. */
let worker: Worker | undefined
let count = 0
const waiting = new Map<number, (m: FromPlanner) => void>()

function thread(): Worker {
  if (worker) return worker
  worker = new Worker(new URL('./planworker.ts', import.meta.url), { type: 'module' })
  worker.onmessage = ({ data }: MessageEvent<FromPlanner>) => {
    if (data.kind === 'failed') {
      // nobody is left waiting
      for (const w of waiting.values()) w(data)
      waiting.clear()
      return
    }
    waiting.get(data.n)?.(data)
    waiting.delete(data.n)
  }
  return worker
}

function ask(m: ToPlanner & { n: number }): Promise<FromPlanner> {
  return new Promise((resolve) => {
    waiting.set(m.n, resolve)
    thread().postMessage(m)
  })
}

export function openPlanner(o: Ask<'shape'>): void {
  thread().postMessage({ kind: 'shape', ...o })
}

export async function judge(o: Ask<'judge'>): Promise<Extract<FromPlanner, { kind: 'judged' }>['judged'] | null> {
  const r = await ask({ kind: 'judge', n: ++count, ...o })
  return r.kind === 'judged' ? r.judged : null
}

/** Which places the part hides; null while no part is known. */
export async function hiddenFrom(eye: [number, number, number], places: [number, number, number][]): Promise<boolean[] | null> {
  if (!worker) return null
  const r = await ask({ kind: 'hidden', n: ++count, eye, places })
  return r.kind === 'hidden' ? r.hidden : null
}

/** Where a ray from the eye puts a marker: on the part, else on the table; null where there is neither. */
export async function placeBy(o: Ask<'place'>): Promise<Placed> {
  const r = await ask({ kind: 'place', n: ++count, ...o })
  return r.kind === 'placed' ? r.place : null
}
