import { describe, expect, it } from 'vitest'
import { conditions, shut, shutReason, speaker, written, type Leg } from './routing'

describe('routes in words', () => {
  it('says every condition of a leg, and nothing of a leg without', () => {
    const leg: Leg = {
      engine: 'heron',
      weight: 3,
      conditions: { languages: ['pt', 'en-GB'], formats: ['mp3'], apps: ['helpline'], hours: '22:00-06:00', site: 'local', region: 'north' },
    }
    expect(conditions(leg)).toEqual(['languages pt, en-GB', 'formats mp3', 'for helpline', '22:00-06:00 UTC', 'only while local', 'in north', 'weight 3'])
    expect(conditions({ engine: 'heron', conditions: {} })).toEqual([])
    expect(conditions({ engine: 'heron' })).toEqual([])
  })

  it('names the voice, what it must be like, or the engine', () => {
    expect(speaker({ engine: 'heron', voice: 'pellin' }, 'synthesis')).toBe('heron/pellin')
    expect(speaker({ engine: 'heron', criteria: { languages: 'pt-PT', gender: 'female' } }, 'synthesis')).toBe('heron, a voice like female pt-PT')
    expect(speaker({ engine: 'heron' }, 'synthesis')).toBe('heron, any voice')
    expect(speaker({ engine: 'turnstone' }, 'recognition')).toBe('turnstone')
  })

  it('finds the breaker that keeps calls from an engine', () => {
    const one = (engine: string, state: string) => ({ engine, state, credential: null, retry_after: 4.2, cause: 'unavailable', failures: 5 })
    const breakers = [one('heron', 'closed'), one('heron', 'open'), one('bittern', 'half-open')]
    expect(shut('gannet', breakers)).toBeUndefined()
    expect(shutReason(shut('heron', breakers)!)).toBe('not called after 5 failures (unavailable); tried again in 5 s')
    expect(shutReason(shut('bittern', breakers)!)).toContain('one call')
  })

  it('writes a route without its name', () => {
    const text = written({ name: 'quayside', work: 'synthesis', legs: [{ engine: 'heron' }] })
    expect(JSON.parse(text)).toEqual({ work: 'synthesis', legs: [{ engine: 'heron' }] })
  })
})
