// Spoken exchanges in a page: the microphone is heard, the hook of the app replies, and the reply sounds.
import { DispatcherError, Microphone, Player, RATE, RawMicrophone, tell, wrapped } from './sound.js'

/** Milliseconds between what is told of the playback. */
const CONFIRM = 250

/** Turns with the reply hook: events open, listening, interim, final, said, reply, sentence, word, fault, turn, end, error. */
export class Exchange extends EventTarget {
  #socket
  #wanted
  #microphone
  #opening
  #player
  #timer
  /** What is said before the session is open. */
  #early = []
  #over = false
  #resolve

  /** `connect` gives the address; `wanted` has the members of `open`. */
  constructor(connect, wanted = {}) {
    super()
    this.#wanted = { ...wanted, voice: { ...wanted.voice, audio: { type: `audio/pcm;rate=${RATE}` } } }
    /** Resolves once it is over; never rejects: failures are events. */
    this.ended = new Promise((resolve) => (this.#resolve = resolve))
    queueMicrotask(() => this.#run(connect).catch((error) => this.#close(wrapped(error))))
  }

  /** Whether it has ended. */
  get over() {
    return this.#over
  }

  /** Whether turns end with a silence. */
  get #bySilence() {
    return this.#wanted.turns !== 'push'
  }

  /** Begins a turn, where turns are taken by push. What sounds is stopped. */
  press() {
    if (this.#over || this.#bySilence || this.#opening) return
    this.#silence()
    const opening = Microphone.open((piece) => this.#send(piece))
    this.#opening = opening
    opening.catch((error) => this.#close(wrapped(error)))
  }

  /** Ends the turn. */
  async release() {
    const opening = this.#opening
    if (!opening) return
    this.#opening = undefined
    const microphone = await opening.catch(() => undefined)
    if (!microphone) return
    await microphone.stop()
    this.#say({ type: 'end-of-turn' })
  }

  /** A turn that is typed. */
  say(text) {
    this.#silence()
    this.#say({ type: 'text', text })
  }

  /** A file, such as a picture, that goes to the hook with the next turn. */
  async attach(file) {
    const bytes = new Uint8Array(await file.arrayBuffer())
    let text = ''
    for (let at = 0; at < bytes.length; at += 32768) text += String.fromCharCode(...bytes.subarray(at, at + 32768))
    this.#say({ type: 'attachment', media_type: file.type || 'application/octet-stream', base64: btoa(text) })
  }

  /** Ends the reply that sounds, at once. */
  stop() {
    const position = this.#player?.heard
    if (position === undefined) return
    this.#silence()
    this.#say({ type: 'stop', position })
  }

  /** Ends it at once. */
  close() {
    this.#close()
  }

  async #run(connect) {
    // A page may sound only after a click, which this follows.
    if (this.#bySilence) this.#microphone = await RawMicrophone.open((piece) => this.#send(piece))
    if (this.#over) return void this.#microphone?.stop()
    const socket = (this.#socket = new WebSocket(await connect()))
    socket.binaryType = 'arraybuffer'
    socket.onmessage = ({ data }) => (typeof data === 'string' ? this.#message(JSON.parse(data)) : this.#sound(data))
    socket.onclose = () => this.#close(new DispatcherError({ title: 'The session has ended.' }))
    await new Promise((done) => (socket.onopen = done))
    if (this.#over) return
    const format = this.#microphone ? { format: this.#microphone.type } : {}
    socket.send(JSON.stringify({ type: 'open', ...this.#wanted, ...format }))
    const early = this.#early
    this.#early = undefined
    for (const piece of early) this.#send(piece)
  }

  #send(piece) {
    if (this.#over) return
    if (this.#early) this.#early.push(piece)
    else if (this.#socket.readyState === WebSocket.OPEN) this.#socket.send(piece)
  }

  #say(message) {
    this.#send(JSON.stringify(message))
  }

  #sound(data) {
    this.#player?.sound(new Int16Array(data, 0, data.byteLength >> 1))
  }

  /** Nothing of the reply sounds any more. */
  #silence() {
    clearInterval(this.#timer)
    this.#player?.stop()
    this.#player = undefined
  }

  #message(message) {
    const { type } = message
    if (type === 'problem') return this.#close(new DispatcherError(message.problem))
    if (type === 'start-of-input') {
      this.#silence()
      tell(this, 'listening', message)
    } else if (type === 'said') {
      this.#silence()
      const player = (this.#player = new Player((cue) => tell(this, cue.type, cue)))
      this.#timer = setInterval(() => this.#say({ type: 'heard', position: player.heard }), CONFIRM)
      tell(this, 'said', message)
    } else if (type === 'word') this.#player?.cue(message)
    else if (type === 'end-of-turn') this.#endTurn(message)
    else if (type !== 'heard' && type !== 'stopped') tell(this, type, message)
  }

  /** A turn is over once its reply has sounded. */
  #endTurn(message) {
    const player = this.#player
    const told = () => {
      if (player && player === this.#player) {
        player.finish()
        this.#silence()
      }
      if (!this.#over) tell(this, 'turn', message)
    }
    setTimeout(told, (player?.left ?? 0) * 1000)
  }

  #close(error) {
    if (this.#over) return
    this.#over = true
    this.#silence()
    void this.#microphone?.stop()
    void this.#opening?.then((microphone) => microphone.stop()).catch(() => {})
    this.#socket?.close()
    if (error) tell(this, 'error', error)
    else tell(this, 'end')
    this.#resolve({ error })
  }
}
