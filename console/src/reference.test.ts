import { readFileSync } from 'node:fs'
import { describe, expect, it } from 'vitest'
import { example, members, operations, type OpenApi, typeOf } from './reference'

const document = JSON.parse(readFileSync(new URL('../../docs/openapi.json', import.meta.url), 'utf8')) as OpenApi

describe('the API reference', () => {
  const all = operations(document)
  const speak = all.find((one) => one.id === 'speak')

  it('has every operation of the document once', () => {
    const written = Object.values(document.paths).flatMap((methods) => Object.keys(methods))
    expect(all.length).toBe(written.length)
    expect(new Set(all.map((one) => `${one.method} ${one.path}`)).size).toBe(all.length)
  })

  it('shows the members of a request with the objects inside of it', () => {
    expect(speak?.method).toBe('POST')
    const schema = speak?.body?.['application/json']?.schema ?? {}
    const names = members(document, schema).map((member) => member.name)
    expect(names).toEqual(expect.arrayContaining(['text', 'voice', 'audio', 'audio.sample_rate', 'lines[].text']))
  })

  it('names types in words and follows references', () => {
    const inner: OpenApi = { paths: {}, components: { schemas: { Tide: { type: 'object', properties: { hour: { type: 'integer' } } } } } }
    expect(typeOf(inner, { $ref: '#/components/schemas/Tide' })).toBe('object')
    expect(typeOf(inner, { type: ['string', 'null'] })).toBe('string')
    expect(typeOf(inner, { type: 'array', items: { type: 'number' } })).toBe('list of number')
    expect(typeOf(inner, { enum: ['high', 'low'] })).toBe('high | low')
  })

  it('begins with a body that the service would read', () => {
    expect(JSON.stringify(example(document, speak?.body?.['application/json']?.schema ?? {}))).toContain('text')
  })
})
