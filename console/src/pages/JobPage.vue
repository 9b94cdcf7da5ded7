<script setup lang="ts">
import { mdiCancel, mdiDeleteOutline, mdiDownload, mdiPlay, mdiReplay } from '@mdi/js'
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import FixWord from '@/components/FixWord.vue'
import JobProgress from '@/components/JobProgress.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { kilobytes, money, seconds } from '@/format'
import { useAsync } from '@/useAsync'

type Job = Schemas['JobAnswer']
type File = Job['files'][number]
interface Cue { start: number; end: number; text: string }

const route = useRoute()
const router = useRouter()
const id = String(route.params['id'])
const job = ref<Job>()
const { error, run } = useAsync()
const chosen = ref<File>()
const sound = ref<Blob>()
const cues = ref<Cue[]>([])
const time = ref(0)
const text = ref('')
const player = useTemplateRef('player')
const said = ref<HTMLElement[]>([])
let events: EventSource | undefined

const isOver = computed(() => ['done', 'failed', 'cancelled'].includes(job.value?.state ?? ''))
const sounds = computed(() => job.value?.files.filter((file) => file.type.startsWith('audio/') && file.type !== 'audio/x-mpegurl') ?? [])
const others = computed(() => job.value?.files.filter((file) => !sounds.value.includes(file)) ?? [])
const current = computed(() => cues.value.findIndex((cue) => time.value >= cue.start && time.value < cue.end))

/** Follows the job while the window is looked at. */
function follow() {
  events?.close()
  events = undefined
  if (document.hidden || isOver.value) return
  events = new EventSource(`/api/v1/jobs/${id}/events`)
  events.addEventListener('job', (event) => {
    job.value = JSON.parse((event as MessageEvent<string>).data) as Job
    if (isOver.value) events?.close()
  })
}

function clock(text: string) {
  return text.split(':').reduce((sum, part) => sum * 60 + Number(part), 0)
}

/** The cues of WebVTT, as the service writes it. */
function cuesOf(vtt: string): Cue[] {
  const unescape = (line: string) => line.replaceAll('&lt;', '<').replaceAll('&gt;', '>').replaceAll('&amp;', '&')
  return vtt
    .split('\n\n')
    .map((block) => block.split('\n'))
    .filter((lines) => lines[0]?.includes('-->'))
    .map((lines) => {
      const [start, end] = lines[0]!.split(' --> ')
      return { start: clock(start!), end: clock(end!), text: unescape(lines.slice(1).join(' ')) }
    })
}

async function play(file: File) {
  chosen.value = file
  sound.value = undefined
  cues.value = []
  await run(async () => {
    sound.value = await (await fetchRaw(file.url, {})).blob()
    const stem = file.name.replace(/\.[^.]+$/, '')
    const captions = job.value?.files.find((one) => one.name === `${stem}.vtt`)
    if (captions) cues.value = cuesOf(await (await fetchRaw(captions.url, {})).text())
  })
}

function tick(now: number) {
  const before = current.value
  time.value = now
  if (current.value !== before) void nextTick(() => said.value[current.value]?.scrollIntoView({ block: 'nearest' }))
}

async function cancel() {
  if (!window.confirm(`Cancel "${job.value?.title}"? Finished files are kept, and running calls are charged.`)) return
  await run(async () => {
    job.value = await ask(api.POST('/api/v1/jobs/{id}/cancel', { params: { path: { id } } }))
  })
}

async function resume() {
  await run(async () => {
    job.value = await ask(api.POST('/api/v1/jobs/{id}/resume', { params: { path: { id } } }))
    follow()
  })
}

/** Engines may charge in several currencies. */
function sum(amounts: Schemas['Amount'][], none: Schemas['Amount']) {
  return amounts.length ? amounts.map((one) => money(one)).join(' + ') : money(none)
}

async function remove() {
  if (!window.confirm(`Remove "${job.value?.title}" with its files?`)) return
  await run(async () => {
    await fetchRaw(`/api/v1/jobs/${id}`, { method: 'DELETE' })
    await router.push('/jobs')
  })
}

onMounted(async () => {
  await run(async () => {
    job.value = await ask(api.GET('/api/v1/jobs/{id}', { params: { path: { id } } }))
    const transcript = job.value.files.find((file) => file.name.endsWith('.txt'))
    if (transcript) text.value = await (await fetchRaw(transcript.url, {})).text()
  })
  follow()
  document.addEventListener('visibilitychange', follow)
})
onUnmounted(() => {
  events?.close()
  document.removeEventListener('visibilitychange', follow)
})
</script>

<template>
  <div class="page">
    <ProblemNote :error="error" />
    <template v-if="job">
      <h1>{{ job.title }}</h1>
      <p class="lead quiet">Job of the app {{ job.app }}: {{ job.work === 'recognition' ? 'transcription of a recording' : 'speech from a document' }}. Started <TimeAgo :time="job.created" />.</p>
      <div class="now" data-test="now">
        <StateMark :state="job.state" />
        <JobProgress :job="job" class="bar" />
        <dl>
          <div><dt>Duration</dt><dd class="number">{{ seconds(job.duration) }}</dd></div>
          <div><dt>Cost so far</dt><dd class="number">{{ sum(job.costs, job.cost) }}</dd></div>
          <div><dt>Estimate</dt><dd class="number">{{ sum(job.estimates, job.estimate) }}</dd></div>
        </dl>
        <v-btn v-if="!isOver" :prepend-icon="mdiCancel" data-test="cancel" @click="cancel">Cancel</v-btn>
        <template v-else>
          <v-btn v-if="job.state === 'done'" :prepend-icon="mdiDownload" :href="`/api/v1/jobs/${id}/archive`" download>All files</v-btn>
          <v-btn v-else :prepend-icon="mdiReplay" data-test="resume" title="Continue the job; finished pieces are not charged again" @click="resume">Resume</v-btn>
          <v-btn :prepend-icon="mdiDeleteOutline" variant="text" @click="remove">Remove</v-btn>
        </template>
      </div>
      <p v-if="job.reason" class="reason mt-3" :class="job.state === 'failed' ? 'text-error' : 'text-warning'">▲ {{ job.reason }}</p>
      <ul v-if="job.warnings.length" class="warnings mt-3" aria-label="Warnings" data-test="warnings">
        <li v-for="warning in job.warnings" :key="warning">{{ warning }}</li>
      </ul>
      <p v-if="job.expires" class="quiet mt-2">Its files are kept until {{ new Date(job.expires).toLocaleString() }}.</p>
      <section v-if="chosen" class="hear mt-5" aria-label="Player">
        <h2>{{ chosen.title }}</h2>
        <SoundPlayer v-if="sound" ref="player" :source="sound" :name="chosen.name" autoplay @time="tick" />
        <v-progress-linear v-else indeterminate color="primary" aria-label="Loading the audio" />
        <div v-if="cues.length" class="said mt-3" data-test="said">
          <button v-for="(cue, index) in cues" :key="index" ref="said" type="button" class="word" :class="{ here: index === current }" @click="player?.seek(cue.start)">{{ cue.text }}</button>
        </div>
        <FixWord v-if="job.work === 'synthesis'" :text="cues.map((cue) => cue.text).join(' ')" class="mt-2" />
      </section>
      <template v-if="text">
        <h2>Transcript</h2>
        <p class="transcript">{{ text }}</p>
      </template>
      <h2>Files</h2>
      <v-table v-if="job.files.length" density="comfortable" class="table">
        <thead><tr><th scope="col"><span class="d-sr-only">Actions</span></th><th scope="col">File</th><th scope="col" class="wide">Title</th><th scope="col" class="number">Duration</th><th scope="col" class="number wide">Size</th></tr></thead>
        <tbody>
          <tr v-for="file in [...sounds, ...others]" :key="file.name">
            <td><v-btn v-if="sounds.includes(file)" :icon="mdiPlay" size="small" variant="text" :aria-label="`Play ${file.title}`" data-test="play" @click="play(file)" /></td>
            <td><a :href="file.url" :download="file.name" class="code">{{ file.name }}</a></td>
            <td class="wide">{{ file.title }}</td>
            <td class="number">{{ seconds(file.duration) }}</td>
            <td class="number wide">{{ kilobytes(file.bytes) }}</td>
          </tr>
        </tbody>
      </v-table>
      <p v-else>{{ isOver ? 'No files.' : 'The first file appears when all of its pieces are made.' }}</p>
      <p class="mt-4"><router-link :to="`/dispatches?job=${id}`">Requests of this job</router-link></p>
    </template>
  </div>
</template>

<style scoped>
.now {
  display: grid;
  grid-template-columns: auto minmax(180px, 1fr) auto auto auto;
  gap: 22px;
  align-items: center;
}

.now dl {
  display: flex;
  gap: 26px;
}

.now dt {
  font-size: 0.8rem;
  opacity: 0.78;
}

.now dd {
  text-align: left;
  font-weight: 700;
}

.warnings {
  padding-left: 12px;
  list-style: none;
  border-left: 3px solid rgb(var(--v-theme-warning));
  overflow-wrap: anywhere;
}

.said {
  max-height: 220px;
  overflow: auto;
  border: 1px solid rgb(var(--v-theme-on-surface), 0.2);
  border-radius: 6px;
  padding: 6px;
}

.said button {
  display: block;
  width: 100%;
  text-align: left;
  padding: 4px 8px;
}

.said .here {
  background: rgb(var(--v-theme-primary), 0.16);
  box-shadow: inset 3px 0 rgb(var(--v-theme-primary));
}

.transcript {
  white-space: pre-wrap;
  max-width: 75ch;
}

@media (max-width: 900px) {
  .now {
    grid-template-columns: 1fr;
  }
}
</style>
