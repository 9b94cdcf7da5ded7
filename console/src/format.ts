// Numbers, money and times as people read them.
import type { Amount } from './api/client'

/** Milliseconds with a unit. */
export function milliseconds(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  if (value >= 10_000) return `${(value / 1000).toFixed(1)} s`
  return value < 10 ? `${value.toFixed(1)} ms` : `${Math.round(value)} ms`
}

/** Seconds with a unit. */
export function seconds(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  if (value < 60) return `${value.toFixed(2)} s`
  if (value >= 3600) return `${Math.floor(value / 3600)} h ${Math.floor((value % 3600) / 60)} min`
  return `${Math.floor(value / 60)} min ${Math.round(value % 60)} s`
}

/** Decimals that count for a reader: two, and two significant digits beyond the cents; the most that any of the amounts needs. */
export function decimals(amounts: (Amount | null | undefined)[]): number {
  return Math.max(2, ...amounts.map((amount) => {
    const beyond = (amount?.amount.split('.')[1] ?? '').slice(2)
    const first = beyond.search(/[1-9]/)
    if (first < 0) return 2
    // Zeros are left out only once it is rounded: 0.00208 is 0.0021, not 0.002.
    const shown = Number(amount?.amount).toFixed(2 + Math.min(first + 2, beyond.length))
    return Math.max(2, (shown.split('.')[1] ?? '').replace(/0+$/, '').length)
  }))
}

/** An amount with the digits that count: it never rounds to nothing. */
export function money(amount: Amount | null | undefined, digits = decimals([amount])): string {
  return amount ? `${Number(amount.amount).toFixed(digits)} ${amount.currency}` : '–'
}

/** How long ago a time was, or how long it is until then. */
export function ago(time: string, now = Date.now()): string {
  const passed = Math.round((now - Date.parse(time)) / 1000)
  // A clock that is a little ahead of another does not make a time one to come.
  if (passed < -60) return ahead(-passed)
  if (passed < 5) return 'just now'
  if (passed < 60) return `${passed} s ago`
  if (passed < 3600) return `${Math.floor(passed / 60)} min ago`
  if (passed < 86_400) return `${Math.floor(passed / 3600)} h ago`
  return new Date(time).toLocaleDateString()
}

function ahead(seconds: number): string {
  if (seconds < 3600) return `in ${Math.round(seconds / 60)} min`
  if (seconds < 86_400) return `in ${Math.round(seconds / 3600)} h`
  return `in ${counted(Math.round(seconds / 86_400), 'day')}`
}

/** The exact time. */
export const exact = (time: string): string => new Date(time).toLocaleString()

/** Bytes as people read them. */
export function kilobytes(bytes: number): string {
  if (bytes >= 1_000_000) return `${(bytes / 1_000_000).toFixed(1)} MB`
  return bytes >= 10_000 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1000).toFixed(1)} kB`
}

/** `1 file`, `3 files`. */
export const counted = (count: number, noun: string): string => (count === 1 ? `1 ${noun}` : `${count} ${noun}s`)

/** A share as a percentage. */
export const percent = (share: number): string => `${(share * 100).toFixed(1)} %`
