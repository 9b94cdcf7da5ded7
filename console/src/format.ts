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
  return `${Math.floor(value / 60)} min ${Math.round(value % 60)} s`
}

/** Money in full: it never rounds to nothing. */
export function money(amount: Amount | undefined): string {
  return amount ? `${amount.amount} ${amount.currency}` : '–'
}

/** How long ago a time was. */
export function ago(time: string, now = Date.now()): string {
  const passed = Math.max(0, Math.round((now - Date.parse(time)) / 1000))
  if (passed < 5) return 'just now'
  if (passed < 60) return `${passed} s ago`
  if (passed < 3600) return `${Math.floor(passed / 60)} min ago`
  if (passed < 86_400) return `${Math.floor(passed / 3600)} h ago`
  return new Date(time).toLocaleDateString()
}

/** The exact time. */
export const exact = (time: string): string => new Date(time).toLocaleString()

/** Bytes as people read them. */
export function kilobytes(bytes: number): string {
  if (bytes >= 1_000_000) return `${(bytes / 1_000_000).toFixed(1)} MB`
  return bytes >= 10_000 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1000).toFixed(1)} kB`
}
