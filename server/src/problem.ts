import type { Response } from 'express'
import { ZodError } from 'zod'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Problem, ProblemDocument } from '@oak-gauge/contract'

/**
 * Whether an error says that the database cannot be reached: refused, cut off, shutting down or starting (classes 08 and 57P of SQLSTATE), no connection free in time, or a
 * client that was told so before.
 */
function isDatabaseAway(e: unknown): boolean {
  if (!(e instanceof Error)) return false
  const { code = '', parent, cause } = e as Error & { code?: string; parent?: unknown }
  if (/^(08|57P)|^ECONN|^EPIPE$/.test(code) || /^SequelizeConnection/.test(e.name)) return true
  if (/Connection terminated|not queryable|timeout exceeded when trying to connect/.test(e.message)) return true
  return isDatabaseAway(parent) || isDatabaseAway(cause)
}

/** Whether an error says that a disk is full: the database's own (SQLSTATE 53100), or that of this program. */
export function isDiskFull(e: unknown): boolean {
  if (!(e instanceof Error)) return false
  const { code = '', parent, cause } = e as Error & { code?: string; parent?: unknown }
  return code === '53100' || code === 'ENOSPC' || isDiskFull(parent) || isDiskFull(cause)
}

/** Any error as the four words that people read. What is not ours to explain is said as such; its details are in the log. */
export function toProblem(e: unknown): Problem {
  if (e instanceof OakError) return { code: e.code, detail: e.message, where: e.where, remedy: e.remedy }
  if (e instanceof ZodError) {
    const [first] = e.issues
    return {
      code: 'bad-request',
      detail: e.issues.map((i) => i.message).join(' '),
      where: first?.path.join('.') ?? '',
      remedy: 'Correct it and send it again.',
    }
  }
  if (isDiskFull(e))
    return {
      code: 'disk-full',
      detail: 'The disk that the database lies on is full.',
      where: '',
      remedy: 'Make room: delete jobs that are done with (back them up first), or move other things away. Steps wait until there is room.',
    }
  if (isDatabaseAway(e))
    return {
      code: 'database-away',
      detail: 'The database does not answer.',
      where: '',
      remedy: 'It is tried again by itself; nothing is lost. If it stays so, look at the log of the database.',
    }
  if (e instanceof RangeError && /allocation|Array buffer|Invalid typed array length/i.test(e.message))
    return {
      code: 'out-of-memory',
      detail: 'The memory of this machine is not enough for this step.',
      where: '',
      remedy: 'Thin or trim the passes, or choose a coarser cell.',
    }
  return {
    code: 'internal',
    detail: 'Something went wrong inside the program. Nothing of the job was changed.',
    where: '',
    remedy: 'Try once more. If it stays, send the log with the time of day.',
  }
}

/** Refuses a request (RFC 9457). */
export function refuse(res: Response, problem: Problem, status: number, issues?: ProblemDocument['issues']): void {
  const document: ProblemDocument = {
    type: `urn:oak-gauge:problem:${problem.code}`,
    title: problem.code.replaceAll('-', ' '),
    status,
    ...problem,
    ...(issues?.length ? { issues } : {}),
  }
  res.status(status).type('application/problem+json').send(JSON.stringify(document))
}
