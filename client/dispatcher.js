// Speech in a page, by a Dispatcher service. No dependencies; types are in dispatcher.d.ts.
import { Exchange } from './exchange.js'
import { DispatcherError, Microphone, Player, RATE, tell, wrapped } from './sound.js'

export { DispatcherError, Exchange }

/** The same request within this time is the same click. */
const SAME_CLICK = 500

async function refusal(response) {
  const text = await response.text().catch(() => '')
  try {
    return new DispatcherError({ status: response.status, ...JSON.parse(text) })
  } catch {
    return new DispatcherError({ status: response.status, title: response.statusText })
  }
}

const lost = () => new DispatcherError({ title: 'The connection was lost before the end of the audio.' })

function parsed(record) {
  try {
    return JSON.parse(record)
  } catch {
    // The last record is cut off where the connection breaks.
    throw lost()
  }
}

/** The records of a JSON text sequence (RFC 7464). */
async function* records(body) {
  const reader = body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    rest += value ?? ''
    const parts = rest.split('\u001e')
    rest = done ? '' : parts.pop()
    for (const part of parts) if (part.trim()) yield parsed(part)
    if (done) return
  }
}

/** 16-bit samples that were sent as base64. */
function samples(base64) {
  const bytes = Uint8Array.from(atob(base64), (letter) => letter.charCodeAt(0))
  return new Int16Array(bytes.buffer, 0, bytes.length >> 1)
}

/** Something that is spoken: events start, word, mark, end, error. */
export class Utterance extends EventTarget {
  #stopping = new AbortController()
  #player
  #over = false
  #resolve
  #last

  constructor(call) {
    super()
    /** Resolves with what was heard; never rejects: failures are events. */
    this.ended = new Promise((resolve) => (this.#resolve = resolve))
    // Its listeners are added first.
    queueMicrotask(() => this.#run(call).catch((error) => this.#fail(error)))
  }

  /** Seconds that have sounded. */
  get heard() {
    return this.#player?.heard ?? 0
  }

  /** Whether it has ended. */
  get over() {
    return this.#over
  }

  /** Silence at once; the engine is told to stop as well. */
  stop() {
    if (!this.#over) this.#finish({ stopped: true })
  }

  async #run(call) {
    const player = (this.#player = new Player((cue) => tell(this, cue.type, cue)))
    const response = await call(this.#stopping.signal)
    for await (const record of records(response.body)) {
      if (this.#over) return
      if (record.type === 'start') tell(this, 'start', record)
      else if (record.type === 'audio') player.sound(samples(record.base64))
      else if (record.type === 'word' || record.type === 'mark') player.cue(record)
      else if (record.type === 'problem') throw new DispatcherError(record.problem)
      else if (record.type === 'end') this.#last = record
    }
    if (this.#over) return
    if (!this.#last) throw lost()
    setTimeout(() => this.#finish(this.#last), player.left * 1000)
  }

  #finish(detail) {
    if (this.#over) return
    if (!detail.stopped) this.#player?.finish()
    const heard = this.heard
    this.#close()
    const { type: _, ...rest } = detail
    const end = { stopped: false, ...rest, heard }
    tell(this, 'end', end)
    this.#resolve(end)
  }

  #fail(error) {
    if (this.#over) return
    const heard = this.heard
    this.#close()
    tell(this, 'error', wrapped(error))
    this.#resolve({ stopped: true, heard, error: wrapped(error) })
  }

  #close() {
    this.#over = true
    this.#stopping.abort()
    this.#player?.stop()
  }
}

/** Live captions: events open, result, end, error. */
export class Captions extends EventTarget {
  #socket
  #microphone
  #over = false
  #finishing = false
  #lines = new Map()
  #resolve

  constructor(connect, wanted) {
    super()
    this.ended = new Promise((resolve) => (this.#resolve = resolve))
    queueMicrotask(() => this.#run(connect, wanted).catch((error) => this.#close(wrapped(error))))
  }

  /** All that was said so far: interim text is in it until it is final. */
  get text() {
    return [...this.#lines.values()].map((line) => line.text).filter(Boolean).join(' ')
  }

  /** Whether it has ended. */
  get over() {
    return this.#over
  }

  /** No more is said; the last results still come. */
  finish() {
    if (this.#finishing || this.#over) return
    this.#finishing = true
    if (this.#microphone) void this.#endInput()
  }

  /** Ends at once. */
  stop() {
    this.#close({ text: this.text, stopped: true })
  }

  async #run(connect, wanted) {
    const socket = (this.#socket = new WebSocket(await connect()))
    socket.onmessage = (event) => this.#message(JSON.parse(event.data))
    socket.onclose = () => this.#close(new DispatcherError({ title: 'The session has ended.' }))
    await new Promise((done) => (socket.onopen = done))
    if (this.#over) return
    socket.send(JSON.stringify({ type: 'open', ...wanted }))
    const send = (piece) => socket.readyState === WebSocket.OPEN && socket.send(piece)
    const microphone = await Microphone.open(send)
    // It may be over, or finished, before the microphone was there.
    if (this.#over) return void microphone.stop()
    this.#microphone = microphone
    if (this.#finishing) await this.#endInput()
  }

  async #endInput() {
    await this.#microphone.stop()
    if (this.#socket.readyState === WebSocket.OPEN) this.#socket.send('{"type":"end-of-input"}')
  }

  #message(message) {
    const { type, segment } = message
    if (type === 'open') tell(this, 'open', message)
    else if (type === 'interim' || type === 'final') {
      if (this.#lines.get(segment)?.final) return
      const line = { ...message, final: type === 'final' }
      this.#lines.set(segment, line)
      tell(this, 'result', line)
    } else if (type === 'problem') this.#close(new DispatcherError(message.problem))
    else if (type === 'end-of-input') this.#close({ ...message, stopped: false })
  }

  #close(detail) {
    if (this.#over) return
    this.#over = true
    void this.#microphone?.stop()
    this.#socket?.close()
    if (detail instanceof DispatcherError) {
      tell(this, 'error', detail)
      this.#resolve({ text: this.text, stopped: true, error: detail })
    } else {
      tell(this, 'end', detail)
      this.#resolve(detail)
    }
  }
}

/** A Dispatcher service, as a page uses it. */
export class Dispatcher {
  #url
  #give
  #token
  #speaking
  #asked

  /**
   * @param {object} options
   * @param {string | (() => string | Promise<string>)} options.token a token, or what gives one: it is asked again when one has ended
   * @param {string} [options.url] of the service; where this module comes from, unless given
   */
  constructor({ token, url = new URL('/', import.meta.url).href }) {
    this.#url = url
    this.#give = typeof token === 'function' ? token : undefined
    if (!this.#give) this.#token = Promise.resolve(token)
  }

  /** Speaks a text, or a request with the members of `POST /utterances`. What is still spoken is stopped. */
  speak(text, options = {}) {
    const { together = false, ...rest } = options
    const request = { ...(typeof text === 'string' ? { text } : text), ...rest, audio: { type: `audio/pcm;rate=${RATE}` } }
    const asked = { body: JSON.stringify(request), at: performance.now() }
    const before = this.#asked
    if (before && this.#speaking && !this.#speaking.over && before.body === asked.body && asked.at - before.at < SAME_CLICK)
      return this.#speaking
    if (!together) this.#speaking?.stop()
    this.#asked = asked
    const headers = { 'Content-Type': 'application/json', Accept: 'application/json-seq' }
    this.#speaking = new Utterance((signal) =>
      this.#call('api/v1/utterances', { method: 'POST', headers, body: asked.body, signal }),
    )
    return this.#speaking
  }

  /** Transcribes a recording; the options are the query of `POST /transcripts`. */
  async transcribe(recording, options = {}) {
    const query = new URLSearchParams(options)
    const headers = { 'Content-Type': recording.type, Accept: 'application/json' }
    const call = { method: 'POST', headers, body: recording }
    return (await this.#call(`api/v1/transcripts${query.size ? `?${query}` : ''}`, call)).json()
  }

  /** Records the microphone until `stop()` of what it gives, which resolves to a Blob. */
  async record() {
    const pieces = []
    const microphone = await Microphone.open((piece) => pieces.push(piece))
    return {
      stop: async () => {
        await microphone.stop()
        return new Blob(pieces, { type: microphone.type })
      },
    }
  }

  /** Captions what is said into the microphone; the options are the members of `open`. */
  caption(options = {}) {
    return new Captions(() => this.#live('api/v1/transcripts/live'), options)
  }

  /** Speaks with the reply hook of the app, turn by turn; the options are the members of `open`. */
  exchange(options = {}) {
    this.#speaking?.stop()
    return new Exchange(() => this.#live('api/v1/exchanges/live'), options)
  }

  /**
   * Captions while a button is held, by pointer or by Space or Enter. Gives a target of the events
   * `listening`, `result`, `end` and `error`, with `remove()`.
   */
  pushToTalk(button, options = {}) {
    const target = new EventTarget()
    let captions
    const down = () => {
      if (captions && !captions.over) return
      this.#speaking?.stop()
      captions = this.caption(options)
      for (const type of ['result', 'end', 'error'])
        captions.addEventListener(type, (event) => tell(target, type, event.detail))
      tell(target, 'listening', { captions })
    }
    const up = () => captions?.finish()
    const isKey = (event) => event.key === ' ' || event.key === 'Enter'
    const handlers = {
      pointerdown: (event) => {
        button.setPointerCapture?.(event.pointerId)
        down()
      },
      pointerup: up,
      pointercancel: up,
      keydown: (event) => {
        if (!isKey(event)) return
        event.preventDefault()
        if (!event.repeat) down()
      },
      keyup: (event) => isKey(event) && up(),
      blur: up,
    }
    for (const [type, handler] of Object.entries(handlers)) button.addEventListener(type, handler)
    const remove = () => {
      for (const [type, handler] of Object.entries(handlers)) button.removeEventListener(type, handler)
      captions?.stop()
    }
    return Object.assign(target, { remove })
  }

  /** The address of a live session. */
  async #live(path) {
    const place = new URL(path, this.#url)
    place.protocol = place.protocol === 'https:' ? 'wss:' : 'ws:'
    place.searchParams.set('access_token', await this.#tokenNow())
    return place
  }

  #tokenNow() {
    // Calls that are made at once ask for one token; a failure is not kept.
    this.#token ??= Promise.resolve(this.#give()).catch((error) => {
      this.#token = undefined
      throw error
    })
    return this.#token
  }

  async #call(path, call) {
    const send = async () => {
      const headers = { ...call.headers, Authorization: `Bearer ${await this.#tokenNow()}` }
      return fetch(new URL(path, this.#url), { ...call, headers, credentials: 'omit' })
    }
    let response = await send()
    if (response.status === 401 && this.#give) {
      this.#token = undefined
      response = await send()
    }
    if (!response.ok) throw await refusal(response)
    return response
  }
}
