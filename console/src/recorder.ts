// Records the microphone in whatever the browser's own recorder makes.

/** A recording that runs. */
export interface Recording {
  stop(): Promise<Blob>
}

/** What the service reads, the smallest first. */
const kinds = ['audio/webm;codecs=opus', 'audio/mp4;codecs=opus', 'audio/mp4;codecs=mp4a.40.2', 'audio/ogg;codecs=opus']
/** Bits a second: more than enough for speech. */
const bitrate = 64_000

/** Milliseconds of a piece of a recording that is sent while it runs. */
const piece = 200

/** Begins to record; asks for the microphone. */
export async function record(level: (value: number) => void): Promise<Recording> {
  const pieces: Blob[] = []
  const { stop, type } = await start((data) => pieces.push(data), level)
  return { stop: () => stop().then(() => new Blob(pieces, { type: type.split(';')[0]! })) }
}

/** The same, given piece by piece while it runs. The promise of `stop` is kept once the last piece was given. */
export async function stream(give: (data: Blob) => void, level: (value: number) => void): Promise<{ stop(): Promise<void> }> {
  return start(give, level, piece)
}

async function start(give: (data: Blob) => void, level: (value: number) => void, every?: number) {
  const microphone = await navigator.mediaDevices.getUserMedia({
    audio: { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 },
  })
  const kind = kinds.find((one) => MediaRecorder.isTypeSupported(one))
  const recorder = new MediaRecorder(microphone, { audioBitsPerSecond: bitrate, ...(kind ? { mimeType: kind } : {}) })
  recorder.ondataavailable = (event) => event.data.size > 0 && give(event.data)
  const stopLevel = watchLevel(microphone, level)
  recorder.start(every)
  const stop = () =>
    new Promise<void>((done) => {
      if (recorder.state === 'inactive') return done()
      recorder.onstop = () => {
        stopLevel()
        microphone.getTracks().forEach((track) => track.stop())
        done()
      }
      recorder.stop()
    })
  return { stop, type: recorder.mimeType }
}

/** Tells how loud it is, some ten times a second; gives what ends that. */
function watchLevel(stream: MediaStream, level: (value: number) => void): () => void {
  const context = new AudioContext()
  const analyser = new AnalyserNode(context, { fftSize: 2048 })
  context.createMediaStreamSource(stream).connect(analyser)
  const samples = new Float32Array(analyser.fftSize)
  const timer = setInterval(() => {
    analyser.getFloatTimeDomainData(samples)
    level(samples.reduce((most, sample) => Math.max(most, Math.abs(sample)), 0))
  }, 100)
  return () => {
    clearInterval(timer)
    void context.close()
  }
}
