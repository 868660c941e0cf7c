import { identity, OakError, quietContext, runOperation, wordsOf, type Mesh } from '@oak-gauge/core'

/** Any operation by its name, with its settings checked; what it says of its result, in words; errors with what to do. */
export async function factsOf(mesh: Mesh): Promise<string[]> {
  try {
    const { evidence } = await runOperation('facts', { mesh: [{ name: 'part', data: mesh, pose: identity() }] }, {}, quietContext)
    return [...evidence.quantities.map((q) => `${wordsOf(q)}: ${q.value} ${q.unit}`.trim()), ...evidence.warnings]
  } catch (e) {
    if (e instanceof OakError) return [e.message, e.where, e.remedy]
    throw e
  }
}
