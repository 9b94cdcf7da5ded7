<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import type { Notice } from '@/alerts'
import { api, ask, type Schemas } from '@/api/client'
import DispatchTable from '@/components/DispatchTable.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import { counted, milliseconds, money } from '@/format'
import { shut, shutReason } from '@/routing'
import { useAsync } from '@/useAsync'
import { useEvents } from '@/useEvents'

const overview = ref<Schemas['OverviewAnswer']>()
const breakers = ref<Schemas['BreakerAnswer'][]>([])
const measured = ref<Schemas['MeasuredAnswer'][]>([])
const notices = ref<Notice[]>([])
const { error, run } = useAsync()
let timer: ReturnType<typeof setInterval> | undefined

const spent = computed(() => {
  const sums = new Map<string, number>()
  for (const one of overview.value?.usage ?? []) sums.set(one.cost.currency, (sums.get(one.cost.currency) ?? 0) + Number(one.cost.amount))
  const texts = [...sums].map(([currency, sum]) => money({ amount: sum.toFixed(9), currency }))
  return texts.length ? texts.join(', ') : '0.00 EUR'
})

const load = () =>
  run(async () => {
    const hour = { params: { query: { hours: 2 } } }
    const [now, shutOnes, engines, told] = await Promise.all([
      ask(api.GET('/api/v1/overview')),
      ask(api.GET('/api/v1/breakers')),
      ask(api.GET('/api/v1/health', hour)),
      ask(api.GET('/api/v1/notices')),
    ])
    overview.value = now
    breakers.value = shutOnes.items
    measured.value = engines.items
    notices.value = told.items.filter((notice) => !notice.over)
  })

/** What was measured of an engine lately, in words. */
function lately(name: string): string[] {
  const mine = measured.value.filter((one) => one.name === name)
  return mine.map((one) => {
    const failed = one.failures ? `, ${Math.round((100 * one.failures) / one.calls)} % failed` : ''
    const times = one.first_audio ? `; first ${milliseconds(one.first_audio.median)}, p95 ${milliseconds(one.first_audio.p95)}` : ''
    return `${counted(one.calls, 'call')}${failed}${times}`
  })
}

const close = (name: string) =>
  run(async () => {
    await api.DELETE('/api/v1/breakers/{engine}', { params: { path: { engine: name } } })
    await load()
  }, name)

onMounted(() => {
  void load()
  // Waits of breakers run down without an event.
  timer = setInterval(() => {
    if (!document.hidden) void load()
  }, 15_000)
})
useEvents(load)
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <div class="page">
    <h1>Overview</h1>
    <p class="lead quiet">Current requests and the state of all engines.</p>
    <ProblemNote :error="error" />
    <ul v-if="notices.length" class="notices" role="status" data-test="notices">
      <li v-for="notice in notices" :key="notice.id" class="text-error"><router-link to="/alerts">▲ {{ notice.detail }}</router-link></li>
    </ul>
    <template v-if="overview">
      <div class="figures">
        <router-link to="/dispatches"><span class="figure">{{ overview.requests }}</span><span class="quiet">requests (newest 500)</span></router-link>
        <router-link to="/dispatches?state=failed"><span class="figure" :class="{ 'text-error': overview.failed }">{{ overview.failed }}</span><span class="quiet">failed</span></router-link>
        <router-link to="/dispatches"><span class="figure" :class="{ 'text-warning': overview.fallbacks }">{{ overview.fallbacks }}</span><span class="quiet">answered by a later leg</span></router-link>
        <router-link to="/usage"><span class="figure">{{ spent }}</span><span class="quiet">spent today (UTC)</span></router-link>
      </div>
      <h2 class="mt-8">Engines</h2>
      <p class="quiet">Measured in this hour and the one before.</p>
      <ul class="lamps">
        <li v-for="engine in overview.engines" :key="engine.name">
          <strong>{{ engine.title }}</strong>
          <div><StateMark :state="engine.state" /> <span class="quiet">{{ engine.site }}, {{ [engine.synthesis && 'synthesis', engine.recognition && 'recognition'].filter(Boolean).join(' and ') }}</span></div>
          <div v-if="engine.reason" class="quiet reason">{{ engine.reason }}</div>
          <div v-if="shut(engine.name, breakers)" class="text-error reason" data-test="breaker">▲ {{ shutReason(shut(engine.name, breakers)!) }} <v-btn size="x-small" variant="tonal" @click="close(engine.name)">Call it now</v-btn></div>
          <div v-for="told in lately(engine.name)" :key="told" class="quiet reason">{{ told }}</div>
        </li>
      </ul>
      <h2 class="mt-8">Newest requests</h2>
      <DispatchTable v-if="overview.dispatches.length" :rows="overview.dispatches" />
      <p v-else>No requests yet. Make the first one in the <router-link to="/">sound check</router-link>.</p>
    </template>
    <v-progress-linear v-else-if="!error" indeterminate color="primary" aria-label="Loading the overview" />
  </div>
</template>

<style scoped>
.notices {
  list-style: none;
  padding: 0;
  margin-bottom: 14px;
}

.notices a {
  color: inherit;
}

.figures {
  display: flex;
  flex-wrap: wrap;
  gap: 18px 48px;
}

.figures a {
  display: flex;
  flex-direction: column;
  color: inherit;
  text-decoration: none;
}

.figures a:hover .figure {
  text-decoration: underline;
}

.lamps {
  list-style: none;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(210px, 1fr));
  gap: 10px;
}

.lamps li {
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  padding: 10px 14px;
}

.reason {
  font-size: 0.86rem;
}
</style>
