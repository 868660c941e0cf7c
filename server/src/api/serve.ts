import type { Request, RequestHandler, Response, Router } from 'express'
import { ZodType } from 'zod'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { AnswerOf, BodyOf, Endpoint, ParamsOf, QueryOf } from '@oak-gauge/contract'

export interface Asked<E extends Endpoint> {
  params: ParamsOf<E['path']> & Record<string, string>
  query: QueryOf<E>
  body: BodyOf<E>
  req: Request
  res: Response
}

/** Tests look at every answer too: one that is not as described must not pass. */
const checks = () => process.env['OAK_CHECK_ANSWERS'] === '1'

/**
 * Answers an endpoint: what is asked is read by its shapes before `answer` sees it, and what that returns is sent. One that streams writes to `res` itself, and returns nothing.
 * before: what reads a body that is no JSON.
 */
export function serve<E extends Endpoint>(
  r: Router,
  e: E,
  answer: (asked: Asked<E>) => Promise<AnswerOf<E> | undefined | void>,
  ...before: RequestHandler[]
): void {
  r[e.method](e.path, ...before, async (req: Request, res: Response) => {
    const read = (shape: Endpoint['body'], from: unknown) => (shape instanceof ZodType ? shape.parse(from ?? {}) : undefined)
    const query = read(e.query, req.query) as QueryOf<E>
    const body = read(e.body, req.body) as BodyOf<E>
    const value = await answer({ params: req.params as Asked<E>['params'], query, body, req, res })
    if (res.headersSent) return
    if (value === undefined) return void res.status(204).end()
    if (checks() && e.answer instanceof ZodType) asDescribed(e, e.answer, value)
    res.status(e.status ?? 200).json(value)
  })
}

function asDescribed(e: Endpoint, shape: ZodType, value: unknown): void {
  // as it will be read: what is not finite is null by then
  const { error } = shape.safeParse(JSON.parse(JSON.stringify(value)))
  if (error) throw new Error(`the answer of ${e.method} ${e.path} is not as described: ${error.message}`)
}

/** Cuts a page out of a list that is there as a whole. Throws 'page-gone' when what it is to follow is not in the list any more. */
export function pageOf<T extends { id: string }>(
  all: T[],
  { limit, after }: { limit: number; after?: string | undefined },
): { items: T[]; next: string | null } {
  const before = after === undefined ? -1 : all.findIndex((x) => x.id === after)
  if (after !== undefined && before < 0)
    throw new OakError('page-gone', 'What this page was to follow is not there any more.', { where: after, remedy: 'Begin again at the first page.' })
  const items = all.slice(before + 1, before + 1 + limit)
  return { items, next: before + 1 + limit < all.length ? (items.at(-1)?.id ?? null) : null }
}
