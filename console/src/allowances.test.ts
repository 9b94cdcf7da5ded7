import { describe, expect, it } from 'vitest'
import { amount, pressure, request } from './allowances'

const none = { cost: null, characters: null, seconds: null, requests: null }

describe('allowances', () => {
  it('are shown by the one amount that they limit', () => {
    expect(amount({ ...none, cost: { amount: '20.000000', currency: 'EUR' } })).toBe('20.00 EUR')
    expect(amount({ ...none, characters: 40000 })).toBe('40,000 characters')
    expect(amount({ ...none, seconds: 90 })).toBe('1 min 30 s of audio')
    expect(amount({ ...none, requests: 0 })).toBe('0 requests')
  })

  it('warn before they end', () => {
    expect([79.9, 80, 99.9, 100, 140].map((percent) => pressure(percent).word)).toEqual(['enough left', 'nearly used', 'nearly used', 'used up', 'used up'])
  })

  it('are sent with one amount; money keeps its decimals', () => {
    const form = { limit: 'cost', amount: ' 0.10 ', currency: 'eur', per: 'month', key: null }
    expect(request(form)).toEqual({ per: 'month', key: null, cost: { amount: '0.10', currency: 'EUR' } })
    expect(request({ ...form, limit: 'requests', amount: '50', key: 'k1' })).toEqual({ per: 'month', key: 'k1', requests: 50 })
  })
})
