// Live captions: what a session is told becomes a list of lines, and the
// microphone is sent to it.
import { CallError, type Problem } from '@/api/client'
import { stream } from '@/recorder'

/** A line of captions; interim until it is final. */
export interface Caption {
  /** Of all sessions of the page. */
  key: string
  text: string
  final: boolean
  /** Seconds of the session. */
  start: number | null
  command: { command: string; slots: Record<string, string> } | null
}

/** A message of a live session, as docs/asyncapi.json has them. */
export interface LiveMessage {
  type: 'open' | 'start-of-input' | 'interim' | 'final' | 'renewed' | 'end-of-input' | 'problem'
  segment?: number
  text?: string
  start?: number | null
  engine?: string
  dispatch?: string
  cost?: { amount: string; currency: string }
  command?: Caption['command']
  problem?: Partial<Problem>
}

/** The captions after a message: a result takes the place of an earlier one of its segment, and what is final stays. */
export function withMessage(captions: Caption[], session: number, message: LiveMessage): Caption[] {
  if (message.type !== 'interim' && message.type !== 'final') return captions
  const { segment = 0, text = '', start = null, command = null } = message
  const key = `${session}.${segment}`
  const caption = { key, text, start, command, final: message.type === 'final' }
  const known = captions.findIndex((one) => one.key === key)
  if (known < 0) return text ? [...captions, caption] : captions
  if (captions[known]!.final) return captions
  const next = [...captions]
  next.splice(known, 1, ...(text ? [caption] : []))
  return next
}

/** A session that listens. */
export interface Listening {
  /** No more is said; the last captions still come. */
  end(): void
}

/** What is told of a session. */
export interface Heard {
  message(message: LiveMessage): void
  level(value: number): void
  /** All is told, or why it ended before. */
  over(error?: unknown): void
}

/** Begins to listen to the microphone. */
export async function listen(wanted: Record<string, string>, heard: Heard): Promise<Listening> {
  const place = new URL('/api/v1/transcripts/live', location.href)
  place.protocol = place.protocol === 'https:' ? 'wss:' : 'ws:'
  const socket = new WebSocket(place)
  let told = false
  const over = (error?: unknown) => {
    if (told) return
    told = true
    microphone?.stop()
    socket.close()
    heard.over(error)
  }
  let microphone: Awaited<ReturnType<typeof stream>> | undefined
  let ended = false
  const say = (message: unknown) => {
    if (socket.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message))
  }
  /** The recorder gives its last piece when it stops. */
  const finish = () => void (microphone?.stop() ?? Promise.resolve()).then(() => say({ type: 'end-of-input' }))
  const end = () => {
    if (ended) return
    ended = true
    // Without a microphone yet, it is finished once it is there.
    if (microphone) finish()
  }
  socket.onmessage = (event) => {
    const message = JSON.parse(String(event.data)) as LiveMessage
    if (message.type === 'problem') return over(new CallError(message.problem ?? {}))
    heard.message(message)
    if (message.type === 'end-of-input') over()
  }
  socket.onclose = () => over(new CallError({ title: 'The session has ended.', help: 'Begin again; what is final stays on the page.' }))
  await new Promise<void>((done) => {
    socket.onopen = () => done()
    socket.onerror = () => done()
  })
  if (socket.readyState !== WebSocket.OPEN) {
    over(new CallError({ title: 'The service does not answer.', help: 'Look whether it still runs, then try again.' }))
    return { end }
  }
  say({ type: 'open', ...wanted })
  try {
    microphone = await stream((piece) => socket.readyState === WebSocket.OPEN && socket.send(piece), heard.level)
    // The session may be over, or the button let go, before the microphone was there.
    if (told) void microphone.stop()
    else if (ended) finish()
  } catch {
    over(new CallError({ title: 'The microphone cannot be used.', help: 'Allow it in the browser, or transcribe a file in Sound check.' }))
  }
  return { end }
}
