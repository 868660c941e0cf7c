import { OakError } from '../base/errors.ts'
import { subProgress, type RunContext } from '../base/run.ts'
import type { Evidence, Inputs, Item } from './operation.ts'
import { operation, runOperation } from './registry.ts'
import { withEarlierFigures } from './rules.ts'
import type { Operation } from './operation.ts'
import type { Recipe } from './recipeshape.ts'
import type { Ran } from '../uncertainty/lineage.ts'

export { parseRecipe, recipeSchema, type Recipe } from './recipeshape.ts'

export interface RecipeStepResult {
  operation: string
  evidence: Evidence
  milliseconds: number
}

export interface RecipeResult {
  items: Map<string, Item[]>
  steps: RecipeStepResult[]
  /** of fields: the name of the item whose vertices or points each speaks of */
  on: Map<string, string>
}

/**
 * Runs a recipe on items by name; a name may hold several items ("passes"). Gives all items at the end, and the evidence
 * of every step. Throws OakError 'missing-input' for a name that nothing was brought for, and whatever a step throws with
 * the step's number in front of `where`.
 */
export async function runRecipe(recipe: Recipe, brought: Map<string, Item[]>, ctx: RunContext, now: () => number): Promise<RecipeResult> {
  for (const name of Object.keys(recipe.inputs))
    if (!brought.get(name)?.length)
      throw new OakError('missing-input', `The recipe needs “${name}”${recipe.inputs[name].about ? ` (${recipe.inputs[name].about})` : ''}.`, {
        remedy: `Give it a file: --in ${name}=FILE`,
      })
  const items = new Map([...brought].map(([name, list]) => [name, recipe.inputs[name]?.setup ? list.map((i) => ({ ...i, setup: i.setup ?? name })) : list]))
  const steps: RecipeStepResult[] = []
  // a name may hold several items: each is a slot of its own
  const slots = (ports: Record<string, readonly string[]>) =>
    Object.fromEntries(Object.entries(ports).map(([port, names]) => [port, names.flatMap((n) => (items.get(n) ?? []).map((_, k) => `${n} ${k}`))]))
  const ran: Ran[] = [{ operation: 'import', inputs: {}, outputs: slots({ item: Object.keys(recipe.inputs) }), evidence: null }]
  const on = new Map<string, string>()
  for (let i = 0; i < recipe.steps.length; i++) {
    const step = recipe.steps[i]
    const op = operation(step.operation)
    const inputs: Inputs = {}
    for (const [port, names] of Object.entries(step.inputs)) {
      const list: Item[] = []
      for (const name of names) {
        const found = items.get(name)
        if (!found)
          throw new OakError('missing-input', `Step ${i + 1} uses “${name}”, which no step made.`, { where: `step ${i + 1}`, remedy: 'Correct the recipe.' })
        list.push(...found)
      }
      inputs[port] = list
    }
    const taken = slots(step.inputs)
    const start = now()
    try {
      const params = withEarlierFigures(step.operation, step.params, taken, ran)
      const r = await runOperation(step.operation, inputs, params, subProgress(ctx, i / recipe.steps.length, (i + 1) / recipe.steps.length, op.title))
      for (const [port, made] of Object.entries(r.outputs)) {
        const replaced = op.outputs[port]?.replaces
        const names = replaced ? (step.inputs[replaced] ?? []) : []
        const about = op.outputs[port]?.on
        const name = step.outputs[port] ?? port
        if (about) on.set(name, op.outputs[about] ? (step.outputs[about] ?? about) : (step.inputs[about]?.[0] ?? about))
        if (step.outputs[port] !== undefined) items.set(name, made)
        else if (names.length) {
          let at = 0
          for (const name of names) {
            const n = items.get(name)?.length ?? 0
            items.set(name, made.slice(at, at + n))
            at += n
          }
        } else items.set(name, made)
      }
      steps.push({ operation: step.operation, evidence: r.evidence, milliseconds: now() - start })
      ran.push({ operation: step.operation, inputs: taken, outputs: slots(namesOf(step, op)), evidence: r.evidence })
    } catch (e) {
      if (e instanceof OakError && e.code !== 'cancelled')
        throw new OakError(e.code, e.message, { where: `step ${i + 1} (${step.operation})${e.where ? `, ${e.where}` : ''}`, remedy: e.remedy, cause: e })
      throw e
    }
  }
  return { items, steps, on }
}

/** What the results of a step are called: by the recipe, by what they replace, or by their port. */
function namesOf(step: Recipe['steps'][number], op: Operation): Record<string, string[]> {
  return Object.fromEntries(
    Object.entries(op.outputs).map(([port, { replaces }]) => {
      const given = step.outputs[port]
      return [port, given !== undefined ? [given] : (replaces && step.inputs[replaces]) || [port]]
    }),
  )
}
