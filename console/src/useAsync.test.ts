import { expect, it } from 'vitest'
import { useAsync } from './useAsync'

it('tells what is under way and that it has ended', async () => {
  const { busy, done, run } = useAsync()
  let finish = () => {}
  const running = run(() => new Promise<void>((resolve) => (finish = resolve)), 'check')
  expect([busy.value, done.value]).toEqual(['check', false])
  finish()
  expect(await running).toBe(true)
  expect([busy.value, done.value]).toEqual(['', true])
})

it('keeps an error until something succeeds', async () => {
  const { error, run } = useAsync()
  expect(await run(() => Promise.reject(new Error('no answer')))).toBe(false)
  const again = run(() => Promise.resolve())
  expect(error.value).toEqual(new Error('no answer'))
  await again
  expect(error.value).toBeUndefined()
})
