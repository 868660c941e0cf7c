import type { NextFunction, Request, Response } from 'express'
import { ZodError } from 'zod'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { Problem, ProblemDocument } from '@oak-gauge/contract'
import { log } from './log.ts'
import { refuse, toProblem } from './problem.ts'

const STATUS: Record<string, number> = {
  'not-found': 404,
  busy: 409,
  cold: 409,
  'not-connected': 409,
  'in-use': 409,
  known: 409,
  'moved-on': 409,
  'page-gone': 409,
  'database-away': 503,
  'sessions-away': 503,
  'not-on-tray': 409,
  'bad-setting': 422,
  'bad-request': 400,
  'too-large': 413,
  internal: 500,
  'out-of-memory': 507,
  'disk-full': 507,
  lost: 500,
}

/** The last word of every application: any error as a status and a problem in the words that people read. */
export function answerErrors(err: unknown, req: Request, res: Response, _next: NextFunction): void {
  if (res.headersSent) {
    // an answer that broke off in the middle must not look whole; whoever left before its end is no fault of ours
    if ((err as { code?: string }).code !== 'ERR_STREAM_PREMATURE_CLOSE') log.error({ err, path: req.path }, 'answer broken off')
    res.destroy()
    return
  }
  // whoever asked has gone: nobody to answer, and no fault of ours
  if (req.destroyed && (err as { code?: string }).code === 'ECONNRESET') return
  const { problem, status, issues } = problemOf(err, req.path)
  if (problem.code === 'internal') log.error({ err, path: req.path }, 'request')
  refuse(res, problem, status, issues)
}

/** An error as a problem, and the status to send with it. */
export function problemOf(err: unknown, path: string): { problem: Problem; status: number; issues?: ProblemDocument['issues'] } {
  let e = err
  const parse = err as { type?: string; status?: number; parent?: { code?: string; message?: string } }
  const refused = parse.parent?.code ?? ''
  if (parse.type === 'entity.parse.failed') e = new OakError('bad-request', 'The request is no valid JSON.', { remedy: 'Correct it and send it again.' })
  else if (parse.type === 'entity.too.large') e = new OakError('too-large', 'The request is too large.')
  // what the router or a body parser could not read, for example a percent sign that encodes nothing
  else if (parse.status && parse.status >= 400 && parse.status < 500)
    e = new OakError('bad-request', 'The request cannot be read.', { where: path, remedy: 'Correct it and send it again.' })
  else if (refused === '22P02' && /uuid/.test(parse.parent?.message ?? '')) e = new OakError('not-found', 'There is no such thing.', { where: path })
  // class 22: values that no column takes, such as a zero character or a number beyond its range
  else if (refused.startsWith('22'))
    e = new OakError('bad-request', 'The request holds a value that cannot be stored.', { where: path, remedy: 'Correct it and send it again.' })
  const problem = toProblem(e)
  const issues = e instanceof ZodError ? e.issues.map((i) => ({ where: i.path.join('.'), detail: i.message })) : undefined
  return { problem, status: e instanceof ZodError ? 400 : (STATUS[problem.code] ?? 422), ...(issues ? { issues } : {}) }
}
