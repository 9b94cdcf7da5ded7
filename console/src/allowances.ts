// Allowances in words.
import type { Schemas } from './api/client'
import { money, seconds } from './format'

export type Allowance = Schemas['AllowanceAnswer']

/** What can be limited: the member of a request, and its unit. */
export const limits = [
  { member: 'cost', title: 'Money' },
  { member: 'characters', title: 'Characters of text' },
  { member: 'seconds', title: 'Seconds of recognised audio' },
  { member: 'requests', title: 'Requests' },
] as const

export const periods = [
  { value: 'day', title: 'per day' },
  { value: 'week', title: 'per week, from Monday' },
  { value: 'month', title: 'per month' },
  { value: 'total', title: 'in total' },
]

/** The one amount that is given. */
export function amount(of: Schemas['AllowanceAmounts']): string {
  if (of.cost) return money(of.cost)
  if (of.characters != null) return `${of.characters.toLocaleString('en')} characters`
  if (of.seconds != null) return `${seconds(of.seconds)} of audio`
  return `${(of.requests ?? 0).toLocaleString('en')} requests`
}

export const period = (allowance: Allowance) => (allowance.per === 'total' ? 'in total' : `per ${allowance.per}`)

/** Colour and mark of how much is used: never by colour alone. */
export function pressure(percent: number): { colour: string; mark: string; word: string } {
  if (percent >= 100) return { colour: 'error', mark: '▲', word: 'used up' }
  if (percent >= 80) return { colour: 'warning', mark: '◆', word: 'nearly used' }
  return { colour: 'success', mark: '●', word: 'enough left' }
}

/** The body of a new allowance. */
export function request(form: { limit: string; amount: string; currency: string; per: string; key: string | null }) {
  const number = form.amount.trim()
  const value = form.limit === 'cost' ? { amount: number, currency: form.currency.trim().toUpperCase() } : Number(number)
  return { per: form.per, key: form.key || null, [form.limit]: value }
}
