import { z } from 'zod'
import { API, BASE, VERSION, problemDocument, type Endpoint } from '@oak-gauge/contract'

export interface Schema {
  $ref?: string
  type?: string
  description?: string
  properties?: Record<string, Schema>
  required?: string[]
  [key: string]: unknown
}
export interface Parameter {
  name: string
  in: 'path' | 'query'
  required: boolean
  description?: string
  schema: Schema
}
type Content = Record<string, { schema: Schema }>
export interface Described {
  operationId: string
  summary: string
  description?: string
  tags: string[]
  parameters: Parameter[]
  requestBody?: { required: true; content: Content }
  responses: Record<string, { description: string; content?: Content }>
}
export interface OpenApi {
  openapi: '3.1.0'
  info: { title: string; version: string; description: string }
  servers: { url: string }[]
  paths: Record<string, Record<string, Described>>
  components: { schemas: Record<string, Schema> }
}

const TAGS: Record<string, string> = {
  jobs: 'Jobs',
  items: 'Items',
  scanners: 'Scanners',
  calibrations: 'Scanners',
  verifications: 'Scanners',
  artefacts: 'Plates and ball bars',
}

/** The description of the interface (OpenAPI 3.1.0), made from the table of endpoints. */
export function openApi(): OpenApi {
  const schemas: Record<string, Schema> = {}
  /** A shape as JSON schema. Those with names are put into the components, and referred to. */
  const schemaOf = (shape: z.ZodType, io: 'input' | 'output'): Schema => {
    const {
      $defs = {},
      $schema: _draft,
      ...schema
    } = atHome(z.toJSONSchema(shape, { io, unrepresentable: 'any' })) as Schema & { $defs?: Record<string, Schema> }
    Object.assign(schemas, $defs)
    const { id, ...rest } = schema as Schema & { id?: string }
    if (!id) return rest
    schemas[id] = rest
    return { $ref: `#/components/schemas/${id}` }
  }
  const bodyOf = (body: NonNullable<Endpoint['body']>, io: 'input' | 'output'): Content =>
    typeof body === 'string'
      ? { [body]: { schema: body.startsWith('text/') ? { type: 'string' } : {} } }
      : { 'application/json': { schema: schemaOf(body, io) } }

  const refused = {
    description: 'Refused: what, where, and what to do.',
    content: { 'application/problem+json': { schema: schemaOf(problemDocument, 'output') } },
  }
  const describe = (operationId: string, e: Endpoint): Described => {
    const query = e.query && schemaOf(e.query, 'input')
    return {
      operationId,
      summary: e.title,
      ...(e.about ? { description: e.about } : {}),
      tags: [TAGS[e.path.split('/')[1]] ?? 'The program'],
      parameters: [
        ...[...e.path.matchAll(/:(\w+)/g)].map(([, name]): Parameter => ({
          name,
          in: 'path',
          required: true,
          schema: name === 'what' ? { type: 'string' } : { type: 'string', format: 'uuid' },
        })),
        ...Object.entries(query?.properties ?? {}).map(([name, { description, ...schema }]): Parameter => ({
          name,
          in: 'query',
          required: query?.required?.includes(name) ?? false,
          ...(description ? { description } : {}),
          schema,
        })),
      ],
      ...(e.body ? { requestBody: { required: true, content: bodyOf(e.body, 'input') } } : {}),
      responses: {
        [e.status ?? 200]: { description: 'Done.', ...(e.answer ? { content: bodyOf(e.answer, 'output') } : {}) },
        ...(e.maybe ? { 204: { description: 'There is nothing, or nothing newer.' } } : {}),
        default: refused,
      },
    }
  }
  const paths: OpenApi['paths'] = {}
  for (const [id, e] of Object.entries(API)) (paths[e.path.replace(/:(\w+)/g, '{$1}')] ??= {})[e.method] = describe(id, e)
  return {
    openapi: '3.1.0',
    info: {
      title: 'Oak Gauge',
      version: VERSION,
      description:
        'Everything that the pages do, for programs. Lengths are in mm, poses are 4 x 4 matrices row by row, times are UTC. What is not known is “unknown” or null, never 0. Within this version fields may be added; none changes its meaning.',
    },
    servers: [{ url: BASE }],
    paths,
    components: { schemas },
  }
}

/** References to shapes with names lead to the components. */
function atHome<T>(value: T): T {
  return JSON.parse(JSON.stringify(value).replaceAll('"#/$defs/', '"#/components/schemas/')) as T
}
