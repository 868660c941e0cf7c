import { z } from 'zod'
import { OakError } from '../base/errors.ts'

/** Steps that can be repeated on other data: the same inspection on the fortieth part. */
export const recipeSchema = z.object({
  oakGauge: z.literal('recipe'),
  version: z.literal(1),
  title: z.string().default(''),
  inputs: z
    .record(z.string(), z.object({ about: z.string().default(''), many: z.boolean().default(false), setup: z.boolean().default(false) }))
    .describe('Items that must be brought, by name; `setup`: all under one name were recorded in one setup.'),
  steps: z
    .array(
      z.object({
        operation: z.string(),
        inputs: z.record(z.string(), z.array(z.string())).describe('For each port of the operation the names of items.'),
        params: z.record(z.string(), z.unknown()).default({}),
        outputs: z.record(z.string(), z.string()).default({}).describe('New names for results; what replaces an input keeps its name.'),
      }),
    )
    .min(1),
  deliver: z.array(z.object({ item: z.string(), file: z.string(), format: z.enum(['stl', 'ply', 'obj', '3mf', 'xyz', 'csv']) })).default([]),
})
export type Recipe = z.output<typeof recipeSchema>

export function parseRecipe(json: unknown): Recipe {
  const r = recipeSchema.safeParse(json)
  if (r.success) return r.data
  const [first] = r.error.issues
  throw new OakError('bad-recipe', `The recipe is not understood: ${first?.message ?? ''}`, {
    where: first?.path.join('.') ?? '',
    remedy: 'Export the recipe again from a job’s ledger.',
  })
}
