import type { StepRow } from '../db/models.ts'

const number = (path: StepRow[], operation: string, name: string): number | undefined => {
  const v = path.findLast((s) => s.operation === operation)?.evidence?.quantities.find((q) => q.name === name)?.value
  return typeof v === 'number' && Number.isFinite(v) ? v : undefined
}

/**
 * Settings that the ledger itself knows better than any person: the error of the joint adjustment limits the merge's cell
 * and is part of every flag's uncertainty. Applied when the step runs, so that a repeated step sees the figures of its own branch.
 */
export function withLedgerFigures(operation: string, params: Record<string, unknown>, path: StepRow[]): Record<string, unknown> {
  if (operation !== 'merge' && operation !== 'flag') return params
  const error = number(path, 'adjust', 'alignment, worst pass')
  return error === undefined ? params : { ...params, alignmentError: error }
}
