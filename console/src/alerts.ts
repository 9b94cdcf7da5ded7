// Alerts in words.
import type { Schemas } from './api/client'

export type Alert = Schemas['AlertAnswer']
export type Notice = Schemas['NoticeAnswer']

/** What can be watched: its word, what it is, and what its threshold counts. */
export const watched: { word: string; title: string; counts?: string; usual?: number }[] = [
  { word: 'breaker-open', title: 'The breaker of an engine is open' },
  { word: 'error-share', title: 'Many calls of an engine fail', counts: '% of its calls', usual: 20 },
  { word: 'queue-full', title: 'Many calls are waiting for an engine', counts: 'waiting calls', usual: 20 },
  { word: 'credential-refused', title: 'An engine rejects a credential' },
  { word: 'credential-ending', title: 'A credential expires soon', counts: 'days before its end', usual: 14 },
  { word: 'voice-withdrawn', title: 'A voice of a route or an app is no longer available' },
  { word: 'voice-changed', title: 'A voice has changed, by its canary' },
  { word: 'disk-low', title: 'The disk of the data folder is nearly full', counts: 'free megabytes', usual: 2000 },
  { word: 'credit-ending', title: 'A credit of an engine ends or will be used soon', counts: 'days before that', usual: 14 },
  { word: 'allowance-share', title: 'Most of an allowance is used', counts: '% of the allowance', usual: 80 },
]

export const kind = (word: string) => watched.find((one) => one.word === word)

/** When an alert is told. */
export function when(alert: Alert): string {
  const { title, counts } = kind(alert.on) ?? { title: alert.on, counts: undefined }
  const below = ['credential-ending', 'credit-ending', 'disk-low'].includes(alert.on)
  return [
    title,
    counts && alert.threshold != null ? `${below ? 'at most' : 'at least'} ${alert.threshold} ${counts}` : '',
    alert.engines.length ? `only ${alert.engines.join(', ')}` : '',
    alert.after ? `for ${alert.after} s` : '',
  ]
    .filter(Boolean)
    .join('; ')
}
