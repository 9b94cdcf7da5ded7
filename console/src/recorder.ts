// Records the microphone in whatever the browser's own recorder makes.

/** A recording that runs. */
export interface Recording {
  stop(): Promise<Blob>
}

/** What the service reads, the smallest first. */
const kinds = ['audio/webm;codecs=opus', 'audio/mp4;codecs=opus', 'audio/mp4;codecs=mp4a.40.2', 'audio/ogg;codecs=opus']
/** Bits a second: more than enough for speech. */
const bitrate = 64_000

/** Begins to record; asks for the microphone. */
export async function record(level: (value: number) => void): Promise<Recording> {
  const stream = await navigator.mediaDevices.getUserMedia({
    audio: { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 },
  })
  const kind = kinds.find((one) => MediaRecorder.isTypeSupported(one))
  const recorder = new MediaRecorder(stream, { audioBitsPerSecond: bitrate, ...(kind ? { mimeType: kind } : {}) })
  const pieces: Blob[] = []
  recorder.ondataavailable = (event) => pieces.push(event.data)
  const stopLevel = watchLevel(stream, level)
  recorder.start()
  return {
    stop: () =>
      new Promise((done) => {
        recorder.onstop = () => {
          stopLevel()
          stream.getTracks().forEach((track) => track.stop())
          done(new Blob(pieces, { type: recorder.mimeType.split(';')[0]! }))
        }
        recorder.stop()
      }),
  }
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
