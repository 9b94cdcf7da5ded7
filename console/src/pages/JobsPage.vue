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
import { decimals, seconds } from '@/format'

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
const voice = ref<string | null>(null)
const format = ref('audio/mpeg')
const split = ref('heading')
const busy = ref(false)
/** How much of a large file is sent, in percent. */
const sent = ref<number>()
const voices = ref<string[]>([])
const routes = ref<Schemas['RouteSchema'][]>([])
const hearing = ref<string | null>(null)
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
const formats = [
  { title: 'MP3', value: 'audio/mpeg' },
  { title: 'WAV', value: 'audio/wav' },
  { title: 'FLAC', value: 'audio/flac' },
  { title: 'Ogg Opus', value: 'audio/ogg;codecs=opus' },
]

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

async function begin() {
  if (!file.value) return
  busy.value = true
  error.value = undefined
  try {
    const query = new URLSearchParams({ filename: file.value.name })
    const path = recording.value ? '/api/v1/transcripts' : '/api/v1/jobs'
    if (recording.value) {
      query.delete('filename')
      query.set('title', file.value.name.replace(/\.[^.]+$/, ''))
      if (hearing.value) query.set('route', hearing.value)
    } else {
      query.set('type', format.value)
      if (kind.value !== 'application/ssml+xml') query.set('split', split.value)
      if (voice.value) query.set('voice', voice.value)
    }
    const type = kind.value ?? file.value.type
    const headers: Record<string, string> = { 'Content-Type': type, Prefer: 'respond-async', Accept: 'application/json' }
    let body: File | undefined = file.value
    if (body.size > AT_ONCE) {
      query.set('upload', await inParts(body, type, (share) => (sent.value = share)))
      delete headers['Content-Type']
      body = undefined
    }
    const response = await fetchRaw(`${path}?${query}`, { method: 'POST', headers, ...(body ? { body } : {}) })
    const job = (await response.json()) as Job
    await router.push(`/jobs/${job.id}`)
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = false
    sent.value = undefined
  }
}

watch(state, () => {
  void router.replace({ query: state.value ? { state: state.value } : {} })
  void load()
})

onMounted(async () => {
  await load()
  const [plans, list] = await Promise.all([
    ask(api.GET('/api/v1/routes')).catch(() => ({ items: [] })),
    ask(api.GET('/api/v1/voices', { params: { query: { limit: 1000 } } })).catch(() => ({ items: [] })),
  ])
  routes.value = plans.items
  voices.value = [...plans.items.filter((one) => one.work === 'synthesis').map((one) => one.name ?? ''), ...list.items.map((one) => one.id)]
  voice.value = voices.value[0] ?? null
  hearing.value = plans.items.find((one) => one.work === 'recognition')?.name ?? null
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
        <template v-if="file"><strong>{{ file.name }}</strong><br /><span class="quiet">{{ recording ? 'a recording, to be written down' : kind ? 'a document, to be spoken' : 'neither a document nor a recording' }}</span></template>
        <template v-else><strong>Drop a document or a recording</strong><br /><span class="quiet">text, Markdown, SSML, HTML, EPUB, PDF, or audio; or choose a file</span></template>
      </template>
      <template v-if="file && kind">
        <v-autocomplete v-model="voice" :items="voices" label="Route or voice" hide-details />
        <v-select v-model="split" :items="splits" :disabled="kind === 'application/ssml+xml'" label="Files" hide-details data-test="split" />
        <v-select v-model="format" :items="formats" label="Format" hide-details />
      </template>
      <v-select v-if="recording" v-model="hearing" :items="routes.filter((one) => one.work === 'recognition').map((one) => one.name ?? '')" label="Route" hide-details />
      <v-btn v-if="file" color="primary" variant="flat" :loading="busy" :disabled="!kind && !recording" data-test="begin" @click="begin">Begin</v-btn>
    </FileDrop>
    <v-progress-linear v-if="sent !== undefined" :model-value="sent" color="primary" height="6" aria-label="Sending the file" />
    <ProblemNote :error="error" />
    <div class="filters mt-5">
      <v-select v-model="state" :items="['queued', 'running', 'waiting', 'done', 'failed', 'cancelled']" label="State" clearable />
    </div>
    <v-progress-linear v-if="loading" indeterminate color="primary" aria-label="Loading jobs" />
    <v-table v-if="rows.length" density="comfortable">
      <thead><tr><th>Job</th><th>App</th><th>State</th><th class="wide">Progress</th><th class="number">Duration</th><th class="number">Cost</th><th>Started</th></tr></thead>
      <tbody>
        <tr v-for="job in rows" :key="job.id" data-test="job">
          <td><router-link :to="`/jobs/${job.id}`">{{ job.title }}</router-link></td>
          <td>{{ job.app }}</td>
          <td><StateMark :state="job.state" /></td>
          <td><JobProgress :job="job" /></td>
          <td class="number">{{ seconds(job.duration) }}</td>
          <td class="number"><MoneyAmount :amount="job.cost" :digits="digits" /></td>
          <td><TimeAgo :time="job.created" /></td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="!loading && !error" class="mt-4">No jobs{{ state ? ' are so' : ' yet' }}. Drop a document above, or: <span class="code">dispatcher job add handbook.md --split heading</span></p>
    <v-btn v-if="next" class="mt-4" @click="load(next)">Show older</v-btn>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: minmax(0, 220px);
}

.wide {
  min-width: 210px;
}
</style>
