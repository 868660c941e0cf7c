import type { Recipe } from '@oak-gauge/core/operations/recipe.ts'
import { ItemRow } from '../db/models.ts'
import { BRINGING } from '@oak-gauge/contract'
import { aboutStep, SET_ASIDE, type Ledger } from './state.ts'

/**
 * The path of a job as a recipe: what was brought in becomes the inputs to bring, everything after it the steps. Passes of one setup are
 * one input that takes many files, so that another part may have another number of passes.
 */
export async function recipeOf(l: Ledger): Promise<Recipe> {
  const made = await ItemRow.findAll({ where: { stepId: l.path.map((s) => s.id) } })
  const nameOf = new Map<string, string>()
  const inputs: Recipe['inputs'] = {}
  const groups = new Map<string, string>()
  for (const s of l.path.filter((s) => BRINGING.includes(s.operation)))
    for (const slot of Object.values(s.slots).flat()) {
      const row = l.slots.get(slot)
      const item = made.find((m) => m.slotId === slot)
      if (row?.role === 'pass') {
        const setup = row.setupId ?? ''
        const name = groups.get(setup) ?? `passes${groups.size + 1}`
        groups.set(setup, name)
        nameOf.set(slot, name)
        inputs[name] ??= { about: `recorded passes of setup ${groups.size}`, many: true, setup: setup !== '' }
      } else {
        const name = unused(row?.role === 'nominal' ? 'nominal' : 'mesh', inputs)
        nameOf.set(slot, name)
        inputs[name] = { about: item?.name ?? '', many: false, setup: false }
      }
    }
  // maps that bring setups together must be brought, as lists: another part has other markers. Plans and other maps are of no use to a recipe
  const joins = l.path.filter((s) => s.operation === 'join-markers' && (s.inputs['passes']?.length ?? 0) > 0)
  for (const slot of new Set(joins.flatMap((s) => [...(s.inputs['anchor'] ?? []), ...(s.inputs['loose'] ?? [])]))) {
    const name = unused('map', inputs)
    nameOf.set(slot, name)
    inputs[name] = { about: `list of markers, ${made.find((m) => m.slotId === slot)?.name ?? ''}`, many: false, setup: false }
  }
  const steps: Recipe['steps'] = []
  const deliver: Recipe['deliver'] = []
  for (const s of l.path) {
    if (BRINGING.includes(s.operation) || s.operation === SET_ASIDE || (aboutStep(s.operation).stage === 'Mark' && !joins.includes(s))) continue
    const outputs: Record<string, string> = {}
    for (const [port, slots] of Object.entries(s.slots)) {
      const fresh = slots.filter((slot) => !nameOf.has(slot))
      if (!fresh.length) continue
      const name = unused(port, { ...inputs, ...Object.fromEntries([...nameOf.values()].map((n) => [n, true])) })
      fresh.forEach((slot) => nameOf.set(slot, name))
      outputs[port] = name
    }
    steps.push({
      operation: s.operation,
      params: s.params,
      outputs,
      inputs: Object.fromEntries(Object.entries(s.inputs).map(([port, slots]) => [port, [...new Set(slots.map((x) => nameOf.get(x) ?? x))]])),
    })
  }
  for (const item of l.tray.values()) {
    const name = nameOf.get(item.slotId ?? '')
    const role = l.slots.get(item.slotId ?? '')?.role
    if (!name || inputs[name]) continue
    if (role === 'mesh') deliver.push({ item: name, file: `${name}.stl`, format: 'stl' })
    if (role === 'deviation') deliver.push({ item: name, file: `${name}.csv`, format: 'csv' })
  }
  return { oakGauge: 'recipe', version: 1, title: l.job.title, inputs, steps, deliver }
}

function unused(name: string, taken: object): string {
  for (let i = 1; ; i++) {
    const n = i === 1 ? name : `${name}${i}`
    if (!(n in taken)) return n
  }
}
