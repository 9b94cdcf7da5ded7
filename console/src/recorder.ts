// Records the microphone as WAV, made in the page.

/** A recording that runs. */
export interface Recording {
  stop(): Promise<Blob>
}

/** Begins to record; asks for the microphone. */
export async function record(level: (value: number) => void): Promise<Recording> {
  const stream = await navigator.mediaDevices.getUserMedia({
    audio: { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 },
  })
  // Nobody listens while it records: large buffers keep it free of gaps.
  const context = new AudioContext({ latencyHint: 'playback' })
  await context.audioWorklet.addModule('/recorder.js')
  const source = context.createMediaStreamSource(stream)
  const node = new AudioWorkletNode(context, 'recorder')
  const blocks: Float32Array[] = []
  node.port.onmessage = (event: MessageEvent<Float32Array>) => {
    blocks.push(event.data)
    level(Math.max(...event.data.map(Math.abs)))
  }
  source.connect(node)
  // A node that leads nowhere is not run.
  const silent = new GainNode(context, { gain: 0 })
  node.connect(silent).connect(context.destination)
  return {
    async stop() {
      source.disconnect()
      stream.getTracks().forEach((track) => track.stop())
      const rate = context.sampleRate
      await context.close()
      return wav(blocks, rate)
    },
  }
}

/** A WAV file of 16 bits, mono. */
export function wav(blocks: Float32Array[], rate: number): Blob {
  const length = blocks.reduce((sum, block) => sum + block.length, 0)
  const view = new DataView(new ArrayBuffer(44 + length * 2))
  const mark = (at: number, text: string) => [...text].forEach((letter, n) => view.setUint8(at + n, letter.charCodeAt(0)))
  mark(0, 'RIFF')
  view.setUint32(4, 36 + length * 2, true)
  mark(8, 'WAVEfmt ')
  view.setUint32(16, 16, true)
  view.setUint16(20, 1, true)
  view.setUint16(22, 1, true)
  view.setUint32(24, rate, true)
  view.setUint32(28, rate * 2, true)
  view.setUint16(32, 2, true)
  view.setUint16(34, 16, true)
  mark(36, 'data')
  view.setUint32(40, length * 2, true)
  let at = 44
  for (const block of blocks) {
    for (const sample of block) {
      view.setInt16(at, Math.max(-1, Math.min(1, sample)) * 32767, true)
      at += 2
    }
  }
  return new Blob([view.buffer], { type: 'audio/wav' })
}
