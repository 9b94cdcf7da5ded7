// The OpenAPI document of the service, as the reference page shows it.

/** The parts of a JSON Schema (2020-12) that the document uses. */
export interface Schema {
  $ref?: string
  type?: string | string[]
  format?: string
  description?: string
  example?: unknown
  enum?: unknown[]
  properties?: Record<string, Schema>
  required?: string[]
  items?: Schema
  oneOf?: Schema[]
  allOf?: Schema[]
}

export interface Parameter {
  name: string
  in: 'path' | 'query' | 'header'
  required?: boolean
  description?: string
  schema?: Schema
}

type Content = Record<string, { schema?: Schema }>

export interface Operation {
  id: string
  tag: string
  method: string
  path: string
  summary: string
  description?: string
  parameters: Parameter[]
  body?: Content
  responses: { status: string; description: string; types: string[]; schema?: Schema }[]
}

/** An operation as the document writes it (OpenAPI 3.1, section 4.8.10). */
interface Written {
  operationId: string
  tags?: string[]
  summary?: string
  description?: string
  parameters?: Parameter[]
  requestBody?: { content?: Content }
  responses?: Record<string, { description?: string; content?: Content }>
}

export interface OpenApi {
  paths: Record<string, Record<string, Written>>
  components: { schemas: Record<string, Schema> }
}

/** One member of a schema, with the names of those that it is inside of. */
export interface Member {
  name: string
  type: string
  required: boolean
  description: string
}

const DEEPEST = 3

/** All operations, in the order of the document. */
export function operations(document: OpenApi): Operation[] {
  return Object.entries(document.paths).flatMap(([path, methods]) =>
    Object.entries(methods).map(([method, one]) => ({
      id: one.operationId,
      tag: one.tags?.[0] ?? 'service',
      method: method.toUpperCase(),
      path,
      summary: one.summary ?? one.operationId,
      description: one.description,
      parameters: one.parameters ?? [],
      body: one.requestBody?.content,
      responses: Object.entries(one.responses ?? {}).map(([status, answer]) => ({
        status,
        description: answer.description ?? '',
        types: Object.keys(answer.content ?? {}),
        schema: answer.content?.['application/json']?.schema,
      })),
    })),
  )
}

function resolved(document: OpenApi, schema: Schema): Schema {
  const name = schema.$ref?.split('/').pop()
  if (name) return resolved(document, document.components.schemas[name] ?? {})
  const inner = schema.oneOf?.find((one) => one.type !== 'null')
  return inner ? { ...resolved(document, inner), ...(schema.description ? { description: schema.description } : {}) } : schema
}

/** The type of a schema in a word. */
export function typeOf(document: OpenApi, schema?: Schema): string {
  if (!schema) return ''
  const whole = resolved(document, schema)
  if (whole.enum) return whole.enum.map(String).join(' | ')
  const types = (Array.isArray(whole.type) ? whole.type : [whole.type ?? (whole.properties ? 'object' : 'any')]).filter((one) => one !== 'null')
  return types.map((one) => (one === 'array' ? `list of ${typeOf(document, whole.items) || 'any'}` : one)).join(' | ')
}

/** The members of a schema and of the objects inside of it. */
export function members(document: OpenApi, schema: Schema, before = '', depth = 0): Member[] {
  const whole = resolved(document, schema)
  const inside = whole.type === 'array' && whole.items ? resolved(document, whole.items) : whole
  if (!inside.properties || depth > DEEPEST) return []
  return Object.entries(inside.properties).flatMap(([name, member]) => {
    const full = resolved(document, member)
    const path = `${before}${name}`
    const description = member.description ?? full.description ?? ''
    const own = { name: path, type: typeOf(document, member), required: inside.required?.includes(name) ?? false, description }
    const list = full.type === 'array' || (Array.isArray(full.type) && full.type.includes('array'))
    return [own, ...members(document, list ? (full.items ?? {}) : full, `${path}${list ? '[]' : ''}.`, depth + 1)]
  })
}

/** A body to begin with: the members that are required, or have an example. */
export function example(document: OpenApi, schema: Schema): unknown {
  const whole = resolved(document, schema)
  if (whole.example !== undefined) return whole.example
  if (whole.properties) {
    const wanted = Object.entries(whole.properties).filter(([name, member]) => whole.required?.includes(name) || resolved(document, member).example !== undefined)
    return Object.fromEntries(wanted.map(([name, member]) => [name, example(document, member)]))
  }
  const type = Array.isArray(whole.type) ? whole.type.find((one) => one !== 'null') : whole.type
  return type === 'array' ? [] : type === 'boolean' ? false : type === 'integer' || type === 'number' ? 0 : ''
}
