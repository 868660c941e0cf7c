import { alignmentError, framesHeld, lineage, lineageFigures, passHeld, type Ran } from '../uncertainty/lineage.ts'

/**
 * Settings that the steps before know better than any person: the error of the joint adjustment limits the merge's cell,
 * what led to the measured part is the uncertainty of its flags, and how a recorded pass was held is part of what it came to, and of how far it may leave its
 * setup. Applied when the step runs, so that a repeated step, or a recipe on another part, sees the figures of its own run.
 */
export function withEarlierFigures(
  operation: string,
  params: Record<string, unknown>,
  inputs: Record<string, readonly string[]>,
  earlier: readonly Ran[],
): Record<string, unknown> {
  if (operation === 'merge') {
    const error = alignmentError(earlier, inputs['passes'] ?? [])
    return error === undefined ? params : { ...params, alignmentError: error }
  }
  if (operation === 'adjust') {
    const held = (inputs['passes'] ?? []).map((slot) => passHeld(lineage(earlier, [slot])))
    return held.some((h) => h !== null) ? { ...params, held } : params
  }
  if (operation === 'inspect-recording') return { ...params, held: framesHeld(lineage(earlier, inputs['pass'] ?? [])) }
  const [on] = inputs['on'] ?? []
  return operation === 'flag' && on ? { ...params, lineage: lineageFigures(earlier, on) } : params
}
