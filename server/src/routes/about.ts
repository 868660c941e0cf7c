import { Router } from 'express'
import { z } from 'zod'
import { API, type Health, type OperationInfo } from '@oak-gauge/contract'
import { OPERATIONS } from '@oak-gauge/core/operations/registry.ts'
import { openApi } from '../api/openapi.ts'
import { docsPage } from '../api/page.ts'
import { serve } from '../api/serve.ts'

/** What the program says of itself. */
export function aboutRoutes(health: () => Promise<Health>): Router {
  const r = Router()
  serve(r, API.health, health)
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
