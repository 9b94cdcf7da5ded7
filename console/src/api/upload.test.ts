import { afterEach, describe, expect, it, vi } from 'vitest'
import { inParts } from './upload'

const PART = 16 << 20

/** A service that keeps what it is sent, and breaks off where it is told to. */
function service(breaks: number[] = []) {
  const parts: { offset: number; bytes: number; complete: string | null }[] = []
  let kept = 0
  let calls = 0
  const answer = async (_: string, init: RequestInit): Promise<Response> => {
    const headers = new Headers(init.headers)
    if (init.method === 'POST') return Response.json({ id: 'up1', url: '/api/v1/uploads/up1' })
    if (init.method === 'HEAD') return new Response(null, { headers: { 'Upload-Offset': String(kept) } })
    const body = init.body as Blob
    const offset = Number(headers.get('Upload-Offset'))
    if (offset !== kept) return Response.json({ title: 'Wrong offset', status: 409 }, { status: 409 })
    calls += 1
    if (breaks.includes(calls)) {
      // Half of the part has arrived.
      kept += body.size / 2
      throw new TypeError('network')
    }
    parts.push({ offset, bytes: body.size, complete: headers.get('Upload-Complete') })
    kept += body.size
    return new Response(null, { status: 204 })
  }
  vi.stubGlobal('fetch', vi.fn(answer))
  return { parts, kept: () => kept }
}

afterEach(() => {
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

describe('a large file', () => {
  const file = new File([new Uint8Array(2 * PART + 10)], 'tide.wav')

  it('is sent in parts, each from where the last ended', async () => {
    const { parts } = service()
    const told: number[] = []
    expect(await inParts(file, 'audio/wav', (percent) => told.push(Math.round(percent)))).toBe('up1')
    expect(parts).toEqual([
      { offset: 0, bytes: PART, complete: '?0' },
      { offset: PART, bytes: PART, complete: '?0' },
      { offset: 2 * PART, bytes: 10, complete: '?1' },
    ])
    expect(told).toEqual([50, 100, 100])
  })

  it('goes on from where the service has it when a part breaks off', async () => {
    vi.useFakeTimers()
    const { parts, kept } = service([2])
    const sent = inParts(file, 'audio/wav', () => {})
    await vi.runAllTimersAsync()
    await sent
    expect(parts.map((part) => part.offset)).toEqual([0, PART + PART / 2, 2 * PART + PART / 2].filter((offset) => offset < file.size))
    expect(kept()).toBe(file.size)
    expect(parts.at(-1)?.complete).toBe('?1')
  })

  it('is given up at once where the service refuses it', async () => {
    vi.stubGlobal('fetch', vi.fn(async (_: string, init: RequestInit) =>
      init.method === 'POST'
        ? Response.json({ id: 'up1', url: '/api/v1/uploads/up1' })
        : Response.json({ title: 'No room', status: 507 }, { status: 507 })))
    await expect(inParts(file, 'audio/wav', () => {})).rejects.toThrow('No room')
    expect(fetch).toHaveBeenCalledTimes(2)
  })
})
