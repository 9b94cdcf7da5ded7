<script setup lang="ts">
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Dispatch } from '@/api/client'
import DispatchTable from '@/components/DispatchTable.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { useAsync } from '@/useAsync'

const route = useRoute()
const router = useRouter()
const from = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : null)
const state = ref(from('state'))
const app = ref(from('app'))
const engine = ref(from('engine'))
const work = ref(from('work'))
const job = ref(from('job'))
const apps = ref<string[]>([])
const engines = ref<string[]>([])
const rows = ref<Dispatch[]>([])
const next = ref<string | null>(null)
const { error, done, run } = useAsync()
let timer: ReturnType<typeof setInterval> | undefined

const filter = () => ({
  ...(state.value ? { state: state.value } : {}),
  ...(app.value ? { app: app.value } : {}),
  ...(work.value ? { work: work.value } : {}),
  ...(job.value ? { job: job.value } : {}),
  ...(engine.value ? { engine: engine.value } : {}),
})

const load = (cursor?: string) =>
  run(async () => {
    const query = { ...filter(), limit: 50, ...(cursor ? { cursor } : {}) }
    const list = await ask(api.GET('/api/v1/dispatches', { params: { query } }))
    rows.value = cursor ? [...rows.value, ...list.items] : list.items
    next.value = list.next ?? null
  })

watch([state, app, engine, work, job], () => {
  void router.replace({ query: filter() })
  void load()
})

onMounted(async () => {
  await load()
  engines.value = (await ask(api.GET('/api/v1/engines')).catch(() => ({ items: [] }))).items.map((one) => one.name)
  apps.value = (await ask(api.GET('/api/v1/apps')).catch(() => ({ items: [] }))).items.map((one) => one.name)
  // Live while it is looked at and not paged.
  timer = setInterval(() => {
    if (!document.hidden && rows.value.length <= 50) void load()
  }, 5000)
})
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <div class="page">
    <h1>Dispatches</h1>
    <p class="lead quiet">All requests and their attempts, newest first.</p>
    <div class="filters">
      <v-select v-model="app" :items="apps" label="App" clearable />
      <v-select v-model="engine" :items="engines" label="Engine" clearable />
      <v-select v-model="state" :items="['done', 'failed', 'abandoned', 'running', 'uncertain']" label="State" clearable />
      <v-select v-model="work" :items="['synthesis', 'recognition']" label="Work" clearable />
    </div>
    <v-chip v-if="job" closable class="mb-4" @click:close="job = null">Of one job</v-chip>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading dispatches" />
    <DispatchTable v-if="rows.length" :rows="rows" />
    <p v-else-if="done && !error" class="mt-4">No requests match these filters. Make one in the <router-link to="/">sound check</router-link>.</p>
    <v-btn v-if="next" class="mt-4" @click="load(next)">Show older</v-btn>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 1fr));
  gap: 12px;
  max-width: 920px;
  margin-bottom: 18px;
}
</style>
