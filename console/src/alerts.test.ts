import { expect, it } from 'vitest'
import { when, watched, type Alert } from './alerts'

const alert: Alert = { name: 'watch', on: 'breaker-open', engines: [], threshold: null, after: 0, pause: 30, quiet: null, to: [], note: '' }

it('says when an alert is told, with its threshold in its own direction', () => {
  expect(when(alert)).toBe('The breaker of an engine is open')
  expect(when({ ...alert, on: 'error-share', threshold: 10, engines: ['heron'], after: 60 })).toBe(
    'Many calls of an engine fail; at least 10 % of its calls; only heron; for 60 s',
  )
  expect(when({ ...alert, on: 'disk-low', threshold: 500 })).toBe('The disk of the data folder is nearly full; at most 500 free megabytes')
})

it('knows a usual threshold of everything that is counted', () => {
  for (const one of watched) expect(Boolean(one.counts)).toBe(one.usual !== undefined)
})
