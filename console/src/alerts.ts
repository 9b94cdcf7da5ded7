// Alerts in words.
import type { Schemas } from './api/client'

export type Alert = Schemas['AlertAnswer']
export type Notice = Schemas['NoticeAnswer']

/** What can be watched: its word, what it is, and what its threshold counts. */
export const watched: { word: string; title: string; counts?: string; usual?: number }[] = [
  { word: 'breaker-open', title: 'An engine is not called after repeated failures' },
  { word: 'error-share', title: 'Many calls of an engine fail', counts: 'per cent of its calls', usual: 20 },
  { word: 'queue-full', title: 'Many calls wait for an engine', counts: 'waiting calls', usual: 20 },
  { word: 'credential-refused', title: 'An engine refuses a credential' },
  { word: 'credential-ending', title: 'A credential ends soon', counts: 'days before its end', usual: 14 },
  { word: 'voice-withdrawn', title: 'A voice that a route or an app names is gone' },
  { word: 'disk-low', title: 'The disk of the data folder is nearly full', counts: 'free megabytes', usual: 2000 },
]

export const kind = (word: string) => watched.find((one) => one.word === word)

/** When an alert is told. */
export function when(alert: Alert): string {
  const { title, counts } = kind(alert.on) ?? { title: alert.on, counts: undefined }
  const below = ['credential-ending', 'disk-low'].includes(alert.on)
  return [
    title,
    counts && alert.threshold != null ? `${below ? 'at the most' : 'at least'} ${alert.threshold} ${counts}` : '',
    alert.engines.length ? `only ${alert.engines.join(', ')}` : '',
    alert.after ? `for ${alert.after} s` : '',
  ]
    .filter(Boolean)
    .join('; ')
}
