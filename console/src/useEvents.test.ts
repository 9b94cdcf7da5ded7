import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { follow, type Happening } from './useEvents'

class Stream extends EventTarget {
  static all: Stream[] = []
  closed = false
  constructor(public url: string) {
    super()
    Stream.all.push(this)
  }
  close() {
    this.closed = true
  }
  tell(what: string) {
    this.dispatchEvent(new Event(what))
  }
}

class Page extends EventTarget {
  hidden = false
}

let page = new Page()
const all: Happening[] = ['dispatch', 'breaker', 'notice']

beforeEach(() => {
  vi.useFakeTimers()
  Stream.all = []
  page = new Page()
  vi.stubGlobal('EventSource', Stream)
  vi.stubGlobal('document', page)
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

it('loads what has happened, a crowd of events at once', () => {
  const load = vi.fn()
  const stop = follow(load, all)
  const [stream] = Stream.all
  expect(stream?.url).toBe('/api/v1/events')
  for (let told = 0; told < 100; told += 1) stream?.tell('dispatch')
  vi.advanceTimersByTime(10)
  expect(load).toHaveBeenCalledTimes(1)
  stream?.tell('breaker')
  vi.advanceTimersByTime(500)
  expect(load).toHaveBeenCalledTimes(1)
  vi.advanceTimersByTime(600)
  expect(load).toHaveBeenCalledTimes(2)
  stop()
  expect(stream?.closed).toBe(true)
})

it('has one stream for all parts of a window, and tells each what it is for', () => {
  const every = vi.fn()
  const notices = vi.fn()
  const stops = [follow(every, all), follow(notices, ['notice'])]
  expect(Stream.all.length).toBe(1)
  Stream.all[0]?.tell('dispatch')
  vi.advanceTimersByTime(10)
  expect([every.mock.calls.length, notices.mock.calls.length]).toEqual([1, 0])
  Stream.all[0]?.tell('missed')
  vi.advanceTimersByTime(1100)
  expect([every.mock.calls.length, notices.mock.calls.length]).toEqual([2, 1])
  stops.forEach((stop) => stop())
})

it('is closed while hidden, and loads once it is looked at again', () => {
  const load = vi.fn()
  const stop = follow(load, all)
  page.hidden = true
  page.dispatchEvent(new Event('visibilitychange'))
  expect(Stream.all[0]?.closed).toBe(true)
  page.hidden = false
  page.dispatchEvent(new Event('visibilitychange'))
  expect(Stream.all.length).toBe(2)
  Stream.all[1]?.tell('open')
  vi.advanceTimersByTime(10)
  expect(load).toHaveBeenCalledTimes(1)
  stop()
})
