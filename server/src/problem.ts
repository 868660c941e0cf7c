import { ZodError } from 'zod'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Problem } from '@oak-gauge/contract'

/** Any error as the four words that people read. What is not ours to explain is said as such; its details are in the log. */
export function toProblem(e: unknown): Problem {
  if (e instanceof OakError) return { code: e.code, message: e.message, where: e.where, remedy: e.remedy }
  if (e instanceof ZodError) {
    const [first] = e.issues
    return {
      code: 'bad-request',
      message: e.issues.map((i) => i.message).join(' '),
      where: first?.path.join('.') ?? '',
      remedy: 'Correct it and send it again.',
    }
  }
  if (e instanceof RangeError && /allocation|Array buffer|Invalid typed array length/i.test(e.message))
    return {
      code: 'out-of-memory',
      message: 'The memory of this machine is not enough for this step.',
      where: '',
      remedy: 'Thin or trim the passes, or choose a coarser cell.',
    }
  return {
    code: 'internal',
    message: 'Something went wrong inside the program. Nothing of the job was changed.',
    where: '',
    remedy: 'Try once more. If it stays, send the log with the time of day.',
  }
}
