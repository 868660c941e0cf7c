import { z } from 'zod'

/** What went wrong, where, and what to do: the same four words everywhere, in answers as in what a step keeps. */
export const problem = z
  .strictObject({
    code: z.string().describe('Kind of problem, for programs: never changes.'),
    detail: z.string().describe('What went wrong, in a sentence.'),
    where: z.string().describe('The file, setting or thing it is about; may be empty.'),
    remedy: z.string().describe('What to do about it; may be empty.'),
  })
  .meta({ id: 'Problem' })
export type Problem = z.output<typeof problem>

/** A request that was refused (RFC 9457, application/problem+json). */
export const problemDocument = problem
  .extend({
    type: z.string().describe('urn:oak-gauge:problem: and the code.'),
    title: z.string().describe('The code in words.'),
    status: z.int().describe('HTTP status of the answer.'),
    issues: z
      .array(z.strictObject({ where: z.string(), detail: z.string() }))
      .optional()
      .describe('Every field of the request that was not as it must be.'),
  })
  .meta({ id: 'ProblemDocument' })
export type ProblemDocument = z.output<typeof problemDocument>
