import type { Evidence } from './operation.ts'

/** A step that ran before, in order. */
export interface Ran {
  operation: string
  evidence: Pick<Evidence, 'quantities'> | null
}

/**
 * Settings that the steps before know better than any person: the error of the joint adjustment limits the merge's cell
 * and is part of every flag's uncertainty. Applied when the step runs, so that a repeated step, or a recipe on another part,
 * sees the figures of its own run.
 */
export function withEarlierFigures(operation: string, params: Record<string, unknown>, earlier: readonly Ran[]): Record<string, unknown> {
  if (operation !== 'merge' && operation !== 'flag') return params
  const adjusted = earlier.findLast((s) => s.operation === 'adjust')
  const error = adjusted?.evidence?.quantities.find((q) => q.name === 'alignment, worst pass')?.value
  return error === 'unknown' || (typeof error === 'number' && Number.isFinite(error)) ? { ...params, alignmentError: error } : params
}
