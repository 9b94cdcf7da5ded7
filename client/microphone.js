// What the browser's audio thread does with the microphone: 16-bit samples, a twentieth of a second each.

class DispatcherMicrophone extends AudioWorkletProcessor {
  #piece = new Int16Array(Math.round(sampleRate / 20))
  #filled = 0

  process([input]) {
    for (const value of input[0] ?? []) {
      this.#piece[this.#filled] = Math.max(-1, Math.min(1, value)) * 32767
      this.#filled += 1
      if (this.#filled === this.#piece.length) {
        this.port.postMessage(this.#piece.slice().buffer)
        this.#filled = 0
      }
    }
    return true
  }
}

registerProcessor('dispatcher-microphone', DispatcherMicrophone)
