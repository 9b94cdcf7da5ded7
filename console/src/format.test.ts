import { describe, expect, it } from 'vitest'
import { ago, counted, decimals, kilobytes, milliseconds, money, seconds } from './format'

const euro = (amount: string) => ({ amount, currency: 'EUR', nanos: 0 })

describe('money', () => {
  it('shows the digits that count and never rounds to nothing', () => {
    expect(money(euro('1.5'))).toBe('1.50 EUR')
    expect(money(euro('0.000016'))).toBe('0.000016 EUR')
    expect(money(euro('0.00001649'))).toBe('0.000016 EUR')
    expect(money(euro('0.00208'))).toBe('0.0021 EUR')
    expect(money(euro('0'))).toBe('0.00 EUR')
    expect(money(null)).toBe('–')
  })

  it('gives a column as many digits as its smallest amount needs', () => {
    expect(decimals([euro('2.5'), euro('0.0042'), null])).toBe(4)
    expect(money(euro('2.5'), 4)).toBe('2.5000 EUR')
  })
})

describe('times and sizes', () => {
  it.each([
    [milliseconds(3.21), '3.2 ms'],
    [milliseconds(1234), '1234 ms'],
    [milliseconds(12_345), '12.3 s'],
    [milliseconds(null), '–'],
    [seconds(59.5), '59.50 s'],
    [seconds(61), '1 min 1 s'],
    [seconds(3_725), '1 h 2 min'],
    [kilobytes(900), '0.9 kB'],
    [kilobytes(25_400), '25 kB'],
    [kilobytes(2_500_000), '2.5 MB'],
    [counted(1, 'file'), '1 file'],
    [counted(3, 'file'), '3 files'],
  ])('%s is %s', (shown, wanted) => expect(shown).toBe(wanted))

  it('tells how long ago a time was', () => {
    const now = Date.parse('2026-11-30T12:00:00Z')
    expect(ago('2026-11-30T11:59:58Z', now)).toBe('just now')
    expect(ago('2026-11-30T12:00:20Z', now)).toBe('just now')
    expect(ago('2026-11-30T14:00:00Z', now)).toBe('in 2 h')
    expect(ago('2026-12-30T12:00:00Z', now)).toBe('in 30 days')
    expect(ago('2026-11-30T11:59:00Z', now)).toBe('1 min ago')
    expect(ago('2026-11-30T09:00:00Z', now)).toBe('3 h ago')
  })
})
