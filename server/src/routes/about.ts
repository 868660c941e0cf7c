import { Router } from 'express'
import { z } from 'zod'
import { API, type OperationInfo } from '@oak-gauge/contract'
import { OPERATIONS } from '@oak-gauge/core/operations/registry.ts'
import { openApi } from '../api/openapi.ts'
import { docsPage } from '../api/page.ts'
import { serve } from '../api/serve.ts'
import type { Database } from '../db/connect.ts'
import { watchStalls } from '../stalls.ts'

/** What the program says of itself. */
export function aboutRoutes(db: Database): Router {
  const r = Router()
  const stalls = watchStalls()
  serve(r, API.health, async () => {
    const began = performance.now()
    await db.pool.query('select 1')
    const { longest, mean } = stalls()
    return {
      ok: true,
      database: `${(performance.now() - began).toFixed(1)} ms`,
      stalls: { longest: `${longest.toFixed(1)} ms`, mean: `${mean.toFixed(1)} ms`, over: '60 s' },
    }
  })
  const operations = OPERATIONS.map(({ name, version, title, about, inputs, outputs, params }): OperationInfo => ({
    name,
    version,
    title,
    about,
    inputs,
    outputs,
    settings: z.toJSONSchema(params, { io: 'input' }),
  }))
  serve(r, API.operations, () => Promise.resolve({ items: operations, next: null }))
  const described = openApi()
  const page = docsPage(described)
  r.get('/openapi.json', (_req, res) => {
    res.json(described)
  })
  r.get('/docs', (_req, res) => {
    res.type('html').send(page)
  })
  return r
}
