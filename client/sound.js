// What the parts of the module share: errors, events, playback and the microphone.

/** Seconds of audio that are ready before it begins to sound. */
const LEAD = 0.06
/** Hertz of the audio that is asked for. */
export const RATE = 24000
/** Milliseconds between pieces of the microphone. */
const PIECE = 200

/** Why a request was not served; has the members of the problem document (RFC 9457). */
export class DispatcherError extends Error {
  constructor(problem = {}) {
    super(problem.detail || problem.title || 'The service does not answer.')
    this.name = 'DispatcherError'
    this.problem = problem
    this.status = problem.status ?? 0
  }
}

export const tell = (target, type, detail = {}) => target.dispatchEvent(Object.assign(new Event(type), { detail }))

export const wrapped = (error) =>
  error instanceof DispatcherError ? error : new DispatcherError({ title: String(error?.message ?? error) })

let context

export function audio() {
  context ??= new AudioContext({ latencyHint: 'interactive' })
  if (context.state === 'suspended') void context.resume()
  return context
}

/** Plays 16-bit samples one after the other, as they come. */
export class Player {
  #gain
  #sources = new Set()
  #begun
  #next = 0
  #cues = []
  #timer
  #tell

  /** `tell` is given each cue when it sounds. */
  constructor(tell = () => {}) {
    this.#tell = tell
    this.#gain = audio().createGain()
    this.#gain.connect(audio().destination)
  }

  /** Seconds that have sounded. */
  get heard() {
    if (this.#begun === undefined) return 0
    return Math.max(0, Math.min(audio().currentTime, this.#next) - this.#begun)
  }

  /** Seconds that are still to sound. */
  get left() {
    return Math.max(0, this.#next - audio().currentTime)
  }

  /** Something that is told at its second. */
  cue(cue) {
    this.#cues.push(cue)
  }

  sound(values) {
    if (!values.length) return
    const out = audio()
    const buffer = out.createBuffer(1, values.length, RATE)
    const channel = buffer.getChannelData(0)
    for (let at = 0; at < values.length; at += 1) channel[at] = values[at] / 32768
    if (this.#begun === undefined) {
      this.#begun = this.#next = out.currentTime + LEAD
      this.#timer = setInterval(() => this.#due(), 20)
    } else if (this.#next < out.currentTime) {
      // The audio came too late: what follows moves.
      this.#begun += out.currentTime + LEAD - this.#next
      this.#next = out.currentTime + LEAD
    }
    const source = out.createBufferSource()
    source.buffer = buffer
    source.connect(this.#gain)
    source.onended = () => this.#sources.delete(source)
    source.start(this.#next)
    this.#sources.add(source)
    this.#next += buffer.duration
  }

  /** Tells the cues that have come. */
  #due() {
    const now = this.heard
    const time = (cue) => cue.time ?? cue.start ?? 0
    while (this.#cues.length && time(this.#cues[0]) <= now) this.#tell(this.#cues.shift())
  }

  /** All has sounded: every cue is told. */
  finish() {
    this.#due()
    for (const cue of this.#cues.splice(0)) this.#tell(cue)
  }

  /** Silence at once. */
  stop() {
    clearInterval(this.#timer)
    for (const source of this.#sources) source.stop()
    this.#sources.clear()
    this.#gain.disconnect()
  }
}

/** The microphone, piece by piece, until it is stopped. */
export class Microphone {
  static async open(piece) {
    const stream = await navigator.mediaDevices.getUserMedia({ audio: { channelCount: 1 } })
    const recorder = new MediaRecorder(stream)
    const microphone = new Microphone()
    microphone.type = recorder.mimeType
    microphone.stopped = new Promise((done) => {
      recorder.onstop = () => {
        for (const track of stream.getTracks()) track.stop()
        done()
      }
    })
    recorder.ondataavailable = (event) => event.data.size && piece(event.data)
    microphone.stop = () => {
      if (recorder.state !== 'inactive') recorder.stop()
      return microphone.stopped
    }
    recorder.start(PIECE)
    return microphone
  }
}

/** The microphone as raw samples, piece by piece, until it is stopped. */
export class RawMicrophone {
  static async open(piece) {
    const stream = await navigator.mediaDevices.getUserMedia({
      audio: { channelCount: 1, echoCancellation: true, noiseSuppression: false, autoGainControl: false },
    })
    const input = new AudioContext()
    await input.audioWorklet.addModule(new URL('./microphone.js', import.meta.url))
    const source = input.createMediaStreamSource(stream)
    const node = new AudioWorkletNode(input, 'dispatcher-microphone', { numberOfOutputs: 0 })
    node.port.onmessage = ({ data }) => piece(data)
    source.connect(node)
    const microphone = new RawMicrophone()
    microphone.type = `audio/pcm;rate=${input.sampleRate}`
    microphone.stop = async () => {
      node.port.onmessage = null
      for (const track of stream.getTracks()) track.stop()
      if (input.state !== 'closed') await input.close()
    }
    return microphone
  }
}
