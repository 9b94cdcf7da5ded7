<script setup lang="ts">
import { mdiFileDocumentOutline } from '@mdi/js'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import { AT_ONCE, inParts } from '@/api/upload'
import FileDrop from '@/components/FileDrop.vue'
import JobProgress from '@/components/JobProgress.vue'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import VoicePicker from '@/components/VoicePicker.vue'
import { counted, decimals, money, seconds } from '@/format'
import { formatChoices, type FormatChoice } from '@/formats'

type Job = Schemas['JobAnswer']

const route = useRoute()
const router = useRouter()
const state = ref(typeof route.query['state'] === 'string' ? route.query['state'] : null)
const rows = ref<Job[]>([])
const digits = computed(() => decimals(rows.value.map((row) => row.cost)))
const next = ref<string | null>(null)
const loading = ref(true)
const error = ref<unknown>()
const file = ref<File>()
const voice = ref('')
const format = ref('audio/mpeg')
const split = ref('heading')
const busy = ref(false)
/** How much of a large file is sent, in percent. */
const sent = ref<number>()
const routes = ref<Schemas['RouteSchema'][]>([])
const hearing = ref<string | null>(null)
/** What the job would cost, in words. */
const foreseen = ref('')
/** The id of a large file, once it is sent. */
let upload: Promise<string> | undefined
let turn = 0
let timer: ReturnType<typeof setInterval> | undefined

/** Media types of documents by the endings of their names. */
const documents: Record<string, string> = {
  txt: 'text/plain', md: 'text/markdown', markdown: 'text/markdown', ssml: 'application/ssml+xml',
  html: 'text/html', htm: 'text/html', xhtml: 'application/xhtml+xml', epub: 'application/epub+zip', pdf: 'application/pdf',
}
const kind = computed(() => documents[file.value?.name.split('.').at(-1)?.toLowerCase() ?? ''])
const recording = computed(() => !!file.value && !kind.value && /^(audio|video)\//.test(file.value.type))
const splits = [
  { title: 'One file', value: 'none' },
  { title: 'A file for each chapter', value: 'heading' },
  { title: 'A file for each line', value: 'line' },
  { title: 'Files of about ten minutes', value: 'minutes:10' },
]
const formats = ref<FormatChoice[]>([])

async function load(cursor?: string) {
  try {
    const query = { limit: 50, ...(state.value ? { state: state.value } : {}), ...(cursor ? { cursor } : {}) }
    const list = await ask(api.GET('/api/v1/jobs', { params: { query } }))
    rows.value = cursor ? [...rows.value, ...list.items] : list.items
    next.value = list.next ?? null
    if (!busy.value) error.value = undefined
  } catch (caught) {
    error.value = caught
  } finally {
    loading.value = false
  }
}

/** The query of the call that adds the job. */
function request(given: File): URLSearchParams {
  if (recording.value) {
    return new URLSearchParams({ title: given.name.replace(/\.[^.]+$/, ''), ...(hearing.value ? { route: hearing.value } : {}) })
  }
  const query = new URLSearchParams({ filename: given.name, type: format.value })
  if (kind.value !== 'application/ssml+xml') query.set('split', split.value)
  if (voice.value) query.set('voice', voice.value)
  return query
}

/** Sends the file, or the id of what was sent of it in parts. */
async function send(path: string, query: URLSearchParams): Promise<Response> {
  const given = file.value!
  const type = kind.value ?? given.type
  const headers: Record<string, string> = { Prefer: 'respond-async', Accept: 'application/json' }
  if (given.size <= AT_ONCE) return fetchRaw(`${path}?${query}`, { method: 'POST', headers: { ...headers, 'Content-Type': type }, body: given })
  upload ??= inParts(given, type, (share) => (sent.value = share))
  try {
    query.set('upload', await upload)
  } catch (caught) {
    upload = undefined
    throw caught
  } finally {
    sent.value = undefined
  }
  return fetchRaw(`${path}?${query}`, { method: 'POST', headers })
}

/** Shows what the job would cost; a large file is sent for it first. */
async function foresee() {
  const mine = ++turn
  foreseen.value = ''
  error.value = undefined
  if (!file.value || (!kind.value && !recording.value)) return
  try {
    const query = request(file.value)
    if (recording.value) {
      query.delete('title')
      const answer = (await (await send('/api/v1/estimates', query)).json()) as Schemas['EstimateAnswer']
      if (mine === turn) foreseen.value = `${seconds(answer.duration)} of audio, at most ${money(answer.cost)}`
    } else {
      query.set('dry_run', 'true')
      const answer = (await (await send('/api/v1/jobs', query)).json()) as Schemas['JobEstimateAnswer']
      const cost = answer.estimates.map((amount) => money(amount)).join(' + ') || '0.00 EUR'
      if (mine === turn) foreseen.value = `${counted(answer.files, 'file')}, ${counted(answer.pieces, 'call')}, at most ${cost}`
    }
  } catch (caught) {
    if (mine === turn) error.value = caught
  }
}

async function begin() {
  if (!file.value) return
  busy.value = true
  error.value = undefined
  try {
    const response = await send(recording.value ? '/api/v1/transcripts' : '/api/v1/jobs', request(file.value))
    const job = (await response.json()) as Job
    await router.push(`/jobs/${job.id}`)
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = false
    sent.value = undefined
  }
}

watch(file, () => (upload = undefined))
watch([file, voice, split, format, hearing], foresee)
watch(state, () => {
  void router.replace({ query: state.value ? { state: state.value } : {} })
  void load()
})

onMounted(async () => {
  await load()
  const [plans, kinds, own] = await Promise.all([
    ask(api.GET('/api/v1/routes')).catch(() => ({ items: [] })),
    formatChoices().catch(() => []),
    ask(api.GET('/api/v1/apps/{name}', { params: { path: { name: 'console' } } })).catch(() => undefined),
  ])
  formats.value = kinds
  routes.value = plans.items
  voice.value = own?.default_voice ?? plans.items.find((one) => one.work === 'synthesis')?.name ?? ''
  hearing.value = own?.default_recognition ?? plans.items.find((one) => one.work === 'recognition')?.name ?? null
  timer = setInterval(() => {
    if (!document.hidden && rows.value.length <= 50) void load()
  }, 2000)
})
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <div class="page">
    <h1>Jobs</h1>
    <p class="lead quiet">Long documents and recordings. A job continues without this page, and after a restart of the service. For tables of short texts, use <router-link to="/jobs/prompts">prompt sets</router-link>.</p>
    <FileDrop v-model="file" :icon="mdiFileDocumentOutline" label="Add a job" test="file">
      <template #told>
        <template v-if="file"><strong>{{ file.name }}</strong><br /><span class="quiet">{{ recording ? 'a recording to transcribe' : kind ? 'a document to speak' : 'neither a document nor a recording; choose another file' }}</span></template>
        <template v-else><strong>Drop a document or a recording</strong><br /><span class="quiet">text, Markdown, SSML, HTML, EPUB, PDF, or audio; or choose a file</span></template>
      </template>
      <template v-if="file && kind">
        <VoicePicker v-model="voice" :routes="routes.filter((one) => one.work === 'synthesis')" hide-details />
        <v-select v-model="split" :items="splits" :disabled="kind === 'application/ssml+xml'" label="Files" hide-details data-test="split" />
        <v-select v-model="format" :items="formats" label="Format or preset" hide-details />
      </template>
      <v-select v-if="recording" v-model="hearing" :items="routes.filter((one) => one.work === 'recognition').map((one) => one.name ?? '')" label="Route" hide-details />
      <v-btn v-if="file" color="primary" variant="flat" :loading="busy" :disabled="!foreseen" data-test="begin" @click="begin">Add the job</v-btn>
      <p v-if="file && (kind || recording)" class="cost quiet" role="status" data-test="job-estimate">{{ foreseen ? `Estimate: ${foreseen}.` : error ? '' : 'Estimating…' }}</p>
    </FileDrop>
    <v-progress-linear v-if="sent !== undefined" :model-value="sent" color="primary" height="6" aria-label="Sending the file" />
    <ProblemNote :error="error" />
    <div class="filters mt-5">
      <v-select v-model="state" :items="['queued', 'running', 'waiting', 'done', 'failed', 'cancelled']" label="State" clearable />
    </div>
    <v-progress-linear v-if="loading" indeterminate color="primary" aria-label="Loading jobs" />
    <v-table v-if="rows.length" density="comfortable" class="table">
      <thead><tr><th scope="col">Job</th><th scope="col" class="wide">App</th><th scope="col">State</th><th scope="col" class="progress wide">Progress</th><th scope="col" class="number wide">Duration</th><th scope="col" class="number">Cost</th><th scope="col">Started</th></tr></thead>
      <tbody>
        <tr v-for="job in rows" :key="job.id" data-test="job">
          <td><router-link :to="`/jobs/${job.id}`">{{ job.title }}</router-link></td>
          <td class="wide">{{ job.app }}</td>
          <td><StateMark :state="job.state" /></td>
          <td class="wide"><JobProgress :job="job" /></td>
          <td class="number wide">{{ seconds(job.duration) }}</td>
          <td class="number"><MoneyAmount :amount="job.cost" :digits="digits" /></td>
          <td><TimeAgo :time="job.created" /></td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="!loading && !error" class="mt-4">No jobs{{ state ? ' in this state' : ' yet' }}. Drop a document above, or: <span class="code">dispatcher job add handbook.md --split heading</span></p>
    <v-btn v-if="next" class="mt-4" @click="load(next)">Show older</v-btn>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: minmax(0, 220px);
  margin-bottom: 14px;
}

.cost {
  flex-basis: 100%;
  margin: 0;
}

.progress {
  min-width: 210px;
}
</style>
