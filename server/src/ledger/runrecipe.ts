import { randomUUID } from 'node:crypto'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Recipe } from '@oak-gauge/core/operations/recipe.ts'
import type { Operation } from '@oak-gauge/core/operations/operation.ts'
import type { Queue } from '../queue.ts'
import { StepRow } from '../db/models.ts'
import { changing, madeBefore, mustBeQuiet, mustStandAt, type Asked } from './change.ts'
import { askedOf, suited } from './enqueue.ts'
import type { Ledger } from './state.ts'

/**
 * All steps of a recipe on what lies on the tray, queued together: one that fails takes the job back to where it stood. What each step makes has its slot before
 * it is made, so that the steps behind it can name it.
 * inputs: slots for the names that the recipe wants; names that are not given are found by their kind (see found).
 * Throws 'missing-input', 'not-on-tray', and what the ledger says to any change.
 */
export function runRecipe(queue: Queue, jobId: string, recipe: Recipe, inputs: Record<string, string[]>, asked: Asked): Promise<StepRow[]> {
  return changing(queue, jobId, async (c) => {
    const twin = madeBefore(c, asked, () => false)
    if (twin) return c.steps.filter((s) => s.batch !== null && s.batch === twin.batch)
    mustBeQuiet(c, 'a recipe')
    mustStandAt(c, asked.after)
    if (!recipe.steps.length) throw new OakError('bad-recipe', 'The recipe has no steps.', { where: recipe.title, remedy: 'Save it from a job that has some.' })
    const named = new Map<string, string[]>()
    for (const name of Object.keys(recipe.inputs)) {
      const slots = inputs[name] ?? found(c, name, recipe)
      if (!slots.length)
        throw new OakError('missing-input', `The recipe needs “${name}”${recipe.inputs[name].about ? ` (${recipe.inputs[name].about})` : ''}.`, {
          where: name,
          remedy: 'Bring it in first, or say which item it is.',
        })
      for (const s of slots)
        if (!c.tray.has(s)) throw new OakError('not-on-tray', `What is to be “${name}” is not on the tray any more.`, { where: name, remedy: 'Choose again.' })
      named.set(name, slots)
    }
    const batch = randomUUID()
    const made: StepRow[] = []
    for (const [i, step] of recipe.steps.entries()) {
      const { op, taken, outputs } = planned(step, i, named)
      const row = { jobId, operation: op.name, version: op.version, params: step.params, inputs: taken, slots: outputs, batch, origin: c.job.head }
      made.push(await StepRow.create({ ...row, ...(i === 0 ? askedOf(asked) : {}) }, { transaction: c.transaction }))
      c.wake()
    }
    return made
  })
}

/** One step with slots for what it takes and makes. Names what it makes. */
function planned(step: Recipe['steps'][number], i: number, named: Map<string, string[]>) {
  const where = `step ${i + 1} (${step.operation})`
  let op: Operation
  try {
    op = suited(step.operation, step.params, Object.keys(step.inputs))
  } catch (e) {
    if (e instanceof OakError) throw new OakError(e.code, e.message, { where: e.where ? `${where}, ${e.where}` : where, remedy: e.remedy })
    throw e
  }
  const taken = Object.fromEntries(
    Object.entries(step.inputs).map(([port, names]) => {
      const slots = names.flatMap((name) => {
        const known = named.get(name)
        if (!known) throw new OakError('bad-recipe', `It uses “${name}”, which no step made.`, { where, remedy: 'Correct the recipe.' })
        return known
      })
      return [port, slots]
    }),
  )
  const outputs: Record<string, string[]> = {}
  for (const [port, { replaces }] of Object.entries(op.outputs)) {
    const name = step.outputs[port]
    // what replaces an input keeps its slot, and its name unless it is given another
    if (replaces) {
      if (name !== undefined) named.set(name, taken[replaces] ?? [])
      continue
    }
    outputs[port] = [randomUUID()]
    named.set(name ?? port, outputs[port])
  }
  return { op, taken, outputs }
}

/** What an input of a recipe is by its kind: of passes those of the first, second, ... setup that has any, as recipes are written; the nominal, the mesh, a list of markers, one after the other. */
function found({ tray, slots }: Ledger, name: string, recipe: Recipe): string[] {
  const of = (role: string) => [...tray.keys()].filter((slot) => slots.get(slot)?.role === role)
  const place = (alike: (n: string) => boolean) => Object.keys(recipe.inputs).filter(alike).indexOf(name)
  if (recipe.inputs[name].many) {
    const setupOf = (slot: string) => slots.get(slot)?.setupId ?? ''
    const setup = [...new Set(of('pass').map(setupOf))][place((n) => recipe.inputs[n].many)]
    return of('pass').filter((slot) => setupOf(slot) === setup)
  }
  const kind = Object.keys(KINDS).find((k) => name.startsWith(k))
  if (kind === undefined) return []
  const at = place((n) => !recipe.inputs[n].many && n.startsWith(kind))
  return of(KINDS[kind]).slice(at, at + 1)
}
/** Roles by how recipes name single inputs. */
const KINDS: Record<string, string> = { nominal: 'nominal', mesh: 'mesh', map: 'marker-map' }
