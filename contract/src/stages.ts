import type { QuantityId } from '@oak-gauge/core/operations/quantities.ts'
import { STAGES, type Stage } from '@oak-gauge/core/operations/stages.ts'
import type { Step, TrayItem } from './ledger.ts'

export { STAGES, type Stage }
/** open: not started, work: begun, good: evidence good, look: needs a look */
export type StageState = 'open' | 'work' | 'good' | 'look'

/** Steps from the first to the one the job stands at. */
export function chain(steps: Step[], head: string | null): Step[] {
  const byId = new Map(steps.map((s) => [s.id, s]))
  const out: Step[] = []
  for (let id = head; id;) {
    const s = byId.get(id)
    if (!s) break
    out.push(s)
    id = s.parent
  }
  return out.reverse()
}

export const quantity = (step: Step | undefined, id: QuantityId) => step?.evidence?.quantities.find((q) => q.id === id)

/** The last step of the kind on the path the job stands on. */
export const lastOf = (path: Step[], ...operations: string[]) => path.findLast((s) => operations.includes(s.operation))

/** Operations that bring passes, meshes and nominals in from files. */
export const BRINGING = ['import', 'solve-recording']

/** State of each stage, told from the ledger alone; `ready` is that of the scanner chosen for the job. */
export function stageStates(path: Step[], tray: TrayItem[], brief: { tolerance: number | null }, ready: StageState = 'open'): Record<Stage, StageState> {
  const has = (...ops: string[]) => path.some((s) => ops.includes(s.operation))
  const warned = (...ops: string[]) => (lastOf(path, ...ops)?.evidence?.warnings.length ?? 0) > 0
  const passes = tray.filter((i) => i.role === 'pass').length
  const mesh = tray.some((i) => i.role === 'mesh')
  return {
    Brief: brief.tolerance === null ? 'work' : 'good',
    Ready: ready,
    Mark: has('map-markers', 'import-markers') ? (warned('map-markers', 'join-markers') ? 'look' : 'good') : has('plan-markers') ? 'work' : 'open',
    Capture: passes > 0 || mesh ? (path.some((s) => BRINGING.includes(s.operation) && s.evidence?.warnings.length) ? 'look' : 'good') : 'open',
    Clean: has('trim-plane', 'strays', 'islands', 'lasso') ? 'good' : 'open',
    Align: has('adjust')
      ? warned('adjust')
        ? 'look'
        : 'good'
      : has('align-pairs', 'align-shape', 'align-fine')
        ? warned('align-shape')
          ? 'look'
          : 'work'
        : 'open',
    Merge: has('merge') ? (warned('merge') ? 'look' : 'good') : 'open',
    Datum: has('best-fit') ? (warned('best-fit') ? 'look' : 'good') : 'open',
    Inspect: has('deviation') ? 'good' : 'open',
    Deliver: has('facts') ? (warned('facts') ? 'look' : 'good') : 'open',
  }
}

/** The stage a job is at: the first that has evidence missing after the last that has some. */
export function currentStage(states: Record<Stage, StageState>): Stage {
  let last = 0
  STAGES.forEach((s, i) => {
    // a plan or a map is made before the first pass: what follows it is Capture, whatever comes later
    if (i > 1 && states[s] !== 'open') last = i
  })
  if (last === 0) return 'Capture'
  return STAGES[Math.min(STAGES.length - 1, states[STAGES[last]] === 'good' ? last + 1 : last)]
}
