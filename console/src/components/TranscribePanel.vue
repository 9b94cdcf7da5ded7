<script setup lang="ts">
import { mdiFileMusicOutline, mdiMicrophone, mdiStop } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { CallError, fetchRaw, type Schemas, type Transcript } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import { money, seconds } from '@/format'
import { hearers, type HearerChoice } from '@/hearers'
import { record, type Recording } from '@/recorder'
import { useAsync } from '@/useAsync'
import { changeText, commandText, wordAt } from '@/words'

const router = useRouter()
const wanted = ref('')
const choices = ref<HearerChoice[]>([])
const audio = ref<Blob>()
const name = ref('')
const { error, busy, run } = useAsync()
const estimate = ref<Schemas['EstimateAnswer']>()
const transcript = ref<Transcript>()
const recording = ref<Recording>()
const level = ref(0)
const over = ref(false)
const now = ref(0)
const player = ref<InstanceType<typeof SoundPlayer>>()
const picker = ref<HTMLInputElement>()
let turn = 0

const current = computed(() => wordAt(transcript.value?.words ?? [], now.value))

onMounted(() =>
  run(async () => {
    choices.value = await hearers()
    wanted.value = choices.value[0]?.value ?? ''
  }),
)

/** A call with the audio as its body, by the chosen route or engine. */
function send(path: string, blob: Blob): Promise<Response> {
  const [kind, value] = wanted.value.split('=')
  const query = kind && value ? `?${kind}=${encodeURIComponent(value)}` : ''
  const type = blob.type.startsWith('audio/') ? blob.type : 'application/octet-stream'
  return fetchRaw(`${path}${query}`, { method: 'POST', headers: { 'Content-Type': type, Accept: 'application/json' }, body: blob })
}

/** Shows what the audio would cost, before anything is called. */
async function take(blob: Blob | undefined, title: string) {
  if (!blob) return
  audio.value = blob
  name.value = title
  transcript.value = undefined
  await foresee()
}

async function foresee() {
  if (!audio.value) return
  const mine = ++turn
  estimate.value = undefined
  error.value = undefined
  try {
    const answer = (await (await send('/api/v1/estimates', audio.value)).json()) as Schemas['EstimateAnswer']
    if (mine === turn) estimate.value = answer
  } catch (caught) {
    if (mine === turn) error.value = caught
  }
}

async function transcribe() {
  if (!audio.value) return
  const blob = audio.value
  transcript.value = undefined
  await run(async () => {
    const response = await send('/api/v1/transcripts', blob)
    const answer: unknown = await response.json()
    // Long audio becomes a job.
    if (response.status === 202) await router.push(`/jobs/${(answer as Schemas['JobAnswer']).id}`)
    else transcript.value = answer as Transcript
  }, 'transcribe')
}

const pick = (files: FileList | null | undefined) => take(files?.[0], files?.[0]?.name ?? '')

watch(wanted, foresee)

async function turnRecording() {
  if (recording.value) {
    const running = recording.value
    recording.value = undefined
    const made = await running.stop()
    await take(made, `recording.${made.type.split('/')[1]}`)
    return
  }
  error.value = undefined
  try {
    recording.value = await record((value) => (level.value = value))
  } catch {
    error.value = new CallError({ title: 'The microphone cannot be used.', help: 'Allow it in the browser, or drop a file instead.' })
  }
}
</script>

<template>
  <v-card class="pa-5" tag="section" aria-labelledby="hear-title">
    <h2 id="hear-title">Transcribe</h2>
    <v-select v-model="wanted" :items="choices" label="Route or engine" data-test="hear-with" />
    <div
      class="drop mt-4"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="((over = false), pick($event.dataTransfer?.files))"
    >
      <input ref="picker" type="file" accept="audio/*,.opus,.webm,.m4a,.mp4,.flac,.aiff,.au" class="d-none" data-test="file" @change="pick(picker?.files)" />
      <v-btn :prepend-icon="mdiFileMusicOutline" @click="picker?.click()">Choose a file</v-btn>
      <v-btn :color="recording ? 'secondary' : undefined" :variant="recording ? 'flat' : 'tonal'" :prepend-icon="recording ? mdiStop : mdiMicrophone" data-test="record" @click="turnRecording">
        {{ recording ? 'Stop' : 'Record' }}
      </v-btn>
      <meter v-if="recording" :value="level" max="1" aria-label="Level" />
      <span v-else class="quiet">Or drop audio here: WAV, MP3, M4A, FLAC, Ogg, WebM</span>
    </div>
    <div v-if="audio" class="go mt-4">
      <v-btn color="primary" variant="flat" :loading="busy === 'transcribe'" :disabled="!estimate" data-test="transcribe" @click="transcribe">Transcribe</v-btn>
      <span v-if="estimate" class="quiet" data-test="hear-estimate">{{ seconds(estimate.duration) }} of audio, {{ estimate.exact ? 'will cost' : 'will cost at most' }} <strong><MoneyAmount :amount="estimate.cost" /></strong> by {{ estimate.plan[0]?.engine }}<template v-if="estimate.plan.length > 1">, else {{ estimate.plan.slice(1).map((one) => one.engine).join(', ') }}</template></span>
    </div>
    <v-progress-linear v-if="busy === 'transcribe'" indeterminate color="primary" class="mt-3" aria-label="Transcribing" />
    <ProblemNote :error="error" />
    <SoundPlayer v-if="audio" ref="player" :source="audio" :name="name" class="mt-4" @time="now = $event" />
    <div v-if="transcript" class="mt-4">
      <p v-if="!transcript.text" class="quiet">No words were recognised.</p>
      <p class="transcript" :lang="transcript.language" dir="auto" data-test="transcript">
        <template v-if="transcript.words.length">
          <button v-for="(word, index) in transcript.words" :key="index" type="button" class="word" :class="{ now: index === current }" :title="`${seconds(word.start)} to ${seconds(word.end)}${word.confidence == null ? '' : `, ${Math.round(word.confidence * 100)} % confidence`}`" @click="player?.seek(word.start ?? 0)">
            <span>{{ word.text }}</span><span class="time">{{ word.start?.toFixed(2) }}</span>
          </button>
        </template>
        <template v-else>{{ transcript.text }}</template>
      </p>
      <p class="quiet mt-2" data-test="hear-facts">{{ transcript.engine }} · {{ seconds(transcript.duration) }} of audio · {{ money(transcript.cost) }} · <router-link :to="`/dispatches/${transcript.dispatch}`">record</router-link></p>
      <p v-if="transcript.command" data-test="command">Command <strong>{{ commandText(transcript.command) }}</strong></p>
      <p v-for="(change, index) in transcript.changes" :key="index" class="quiet" data-test="change">{{ changeText(change) }}</p>
      <p v-if="transcript.kept"><router-link :to="`/transcripts/${transcript.dispatch}`" data-test="kept">Correct or export the transcript</router-link></p>
      <p v-for="warning in transcript.warnings" :key="warning" class="text-warning">▲ {{ warning }}</p>
    </div>
    <p v-else-if="busy !== 'transcribe' && !audio" class="quiet mt-4">No audio yet. Try with audio from Speak: save it, and drop it here.</p>
  </v-card>
</template>

<style scoped>
.drop {
  border: 1.5px dashed rgba(var(--v-border-color), 0.4);
  border-radius: 6px;
  padding: 16px;
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: center;
}

.go {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 14px;
}

.drop.over {
  border-color: rgb(var(--v-theme-secondary));
}

.transcript {
  line-height: 2.5;
}

.word {
  display: inline-flex;
  flex-direction: column;
  align-items: center;
  line-height: 1.15;
  padding: 2px 4px;
}

.word .time {
  font-size: 0.7rem;
  opacity: 0.78;
  font-variant-numeric: tabular-nums;
}
</style>
