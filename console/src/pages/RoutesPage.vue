<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import RouteEditor from '@/components/RouteEditor.vue'
import RoutePreview from '@/components/RoutePreview.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { milliseconds } from '@/format'
import { conditions, orders, shut, shutReason, speaker, type Leg, type Route } from '@/routing'
import { useAsync } from '@/useAsync'

const address = useRoute()
const router = useRouter()
const routes = ref<Route[]>([])
const breakers = ref<Schemas['BreakerAnswer'][]>([])
const measured = ref<Schemas['MeasuredAnswer'][]>([])
const ofRoutes = ref<Schemas['MeasuredAnswer'][]>([])
const apps = ref<string[]>([])
const versions = ref<Schemas['RouteVersion'][]>([])
const editing = ref<'' | 'new' | 'change'>('')
const retiring = ref(false)
const { error, busy, done, run } = useAsync()
let timer: ReturnType<typeof setInterval> | undefined

const chosen = computed(() => routes.value.find((route) => route.name === address.query.route) ?? routes.value[0])

const load = () =>
  run(async () => {
    const hours = { params: { query: { hours: 24 } } }
    const [listed, shutOnes, engines, used, owners] = await Promise.all([
      ask(api.GET('/api/v1/routes')),
      ask(api.GET('/api/v1/breakers')),
      ask(api.GET('/api/v1/health', hours)),
      ask(api.GET('/api/v1/health', { params: { query: { hours: 24, scope: 'route' } } })),
      ask(api.GET('/api/v1/apps')),
    ])
    routes.value = listed.items
    breakers.value = shutOnes.items
    measured.value = engines.items
    ofRoutes.value = used.items
    apps.value = owners.items.map((app) => app.name)
  })

async function loadVersions() {
  versions.value = []
  const name = chosen.value?.name
  if (!name) return
  versions.value = (await ask(api.GET('/api/v1/routes/{name}/versions', { params: { path: { name } } }))).items
}

async function kept(name: string) {
  editing.value = ''
  await load()
  await router.replace({ query: { route: name } })
  await loadVersions()
}

const retire = () =>
  run(async () => {
    const name = chosen.value?.name
    if (!name) return
    await ask(api.DELETE('/api/v1/routes/{name}', { params: { path: { name } } }).then((answer) => ({ ...answer, data: answer.response.ok ? true : undefined })))
    retiring.value = false
    await router.replace({ query: {} })
    await load()
  }, 'retire')

const usual = (leg: Leg, work: string) => measured.value.find((one) => one.name === leg.engine && one.work === work)?.first_audio?.median
const health = (name?: string | null) => ofRoutes.value.find((one) => one.name === name)
const share = (part: number, whole: number) => `${Math.round((100 * part) / whole)} %`

watch(() => chosen.value?.name, () => run(loadVersions, 'versions'))
onMounted(() => {
  void load()
  timer = setInterval(() => {
    if (!document.hidden && !editing.value) void load()
  }, 5000)
})
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <div class="page">
    <h1>Routes</h1>
    <p class="lead quiet">Named plans: which engines are tried for a request, in which order, and under which conditions. Apps use their names as a voice.</p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading routes" />
    <template v-else-if="editing === 'new'"><h2>New route</h2><RouteEditor @kept="kept" @left="editing = ''" /></template>
    <div v-else class="both">
      <nav aria-label="Routes">
        <ul class="names">
          <li v-for="route in routes" :key="route.name ?? ''">
            <router-link :to="{ query: { route: route.name } }" :class="{ here: route.name === chosen?.name }" :aria-current="route.name === chosen?.name || undefined" data-test="route">
              <strong>{{ route.name }}</strong>
              <span class="quiet">{{ route.work }}, {{ route.legs.length === 1 ? '1 leg' : `${route.legs.length} legs` }}</span>
            </router-link>
          </li>
        </ul>
        <v-btn variant="tonal" class="mt-3" data-test="new-route" @click="editing = 'new'">New route</v-btn>
      </nav>
      <section v-if="chosen" :aria-label="`Route ${chosen.name}`">
        <div class="title"><h2>{{ chosen.name }}</h2><span class="quiet">{{ chosen.work }}, {{ orders[chosen.order ?? 'listed'] }}{{ chosen.hedge ? ', hedged' : '' }}</span></div>
        <p v-if="chosen.note">{{ chosen.note }}</p>
        <p v-if="health(chosen.name)" class="quiet">Last 24 hours: {{ health(chosen.name)!.calls }} requests, {{ share(health(chosen.name)!.failures, health(chosen.name)!.calls) }} failed, {{ share(health(chosen.name)!.fallbacks, health(chosen.name)!.calls) }} answered after a fallback; first audio {{ milliseconds(health(chosen.name)!.first_audio?.median) }}, p95 {{ milliseconds(health(chosen.name)!.first_audio?.p95) }}.</p>
        <template v-if="editing === 'change'"><RouteEditor :key="chosen.name ?? ''" :route="chosen" @kept="kept" @left="editing = ''" /></template>
        <template v-else>
          <ol class="legs">
            <li v-for="(leg, index) in chosen.legs" :key="index" :class="{ shut: shut(leg.engine, breakers) }" data-test="leg">
              <span class="place" aria-hidden="true">{{ index + 1 }}</span>
              <div>
                <strong>{{ speaker(leg, chosen.work) }}</strong><span v-if="leg.model" class="quiet"> {{ leg.model }}</span>
                <div class="quiet told">{{ [...conditions(leg), leg.deadline ? `${leg.deadline} ms to answer` : ''].filter(Boolean).join('; ') || 'no conditions' }}</div>
                <div v-if="shut(leg.engine, breakers)" class="text-error told">▲ {{ shutReason(shut(leg.engine, breakers)!) }}</div>
              </div>
              <span class="usual"><template v-if="usual(leg, chosen.work) !== undefined">{{ milliseconds(usual(leg, chosen.work)) }}<br /><span class="quiet">median</span></template></span>
            </li>
          </ol>
          <div class="actions">
            <v-btn variant="tonal" data-test="change-route" @click="editing = 'change'">Change</v-btn>
            <v-btn variant="text" color="error" data-test="retire-route" @click="retiring = true">Retire</v-btn>
          </div>
        </template>
        <h3 class="mt-8">What would it do?</h3>
        <p class="quiet">Each leg with a request of yours. Nothing is sent, recorded or charged.</p>
        <RoutePreview :key="chosen.name ?? ''" :name="chosen.name ?? ''" :work="chosen.work" :apps="apps" />
        <h3 class="mt-8">Versions</h3>
        <v-table v-if="versions.length" class="table" density="comfortable">
          <thead><tr><th scope="col">Version</th><th scope="col">Changed</th><th scope="col">By</th><th scope="col">Legs</th></tr></thead>
          <tbody>
            <tr v-for="version in versions" :key="version.version">
              <td>{{ version.version }}</td>
              <td><TimeAgo :time="version.at" /></td>
              <td>{{ version.by }}</td>
              <td>{{ version.route?.legs.map((leg: Leg) => speaker(leg, version.route!.work)).join(' → ') }}</td>
            </tr>
          </tbody>
        </v-table>
      </section>
      <p v-else>No routes yet. A route tries one engine after the other, so that an app does not notice when one fails.</p>
    </div>
    <v-dialog v-model="retiring" max-width="460">
      <v-card class="pa-5">
        <p>Retire the route <strong>{{ chosen?.name }}</strong>? Requests that name it are refused from then on. Its versions stay.</p>
        <div class="actions"><v-btn color="error" variant="flat" :loading="busy === 'retire'" data-test="confirm-retire" @click="retire">Retire</v-btn><v-btn variant="text" @click="retiring = false">Keep</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(170px, 220px) minmax(0, 1fr);
  gap: 32px;
}

.names {
  list-style: none;
  padding: 0;
}

.names a {
  display: flex;
  flex-direction: column;
  padding: 8px 12px;
  border-left: 3px solid transparent;
  color: inherit;
  text-decoration: none;
}

.names a:hover,
.names a.here {
  border-left-color: rgb(var(--v-theme-primary));
  background: rgb(var(--v-theme-surface));
}

.title {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
  align-items: baseline;
}

.legs {
  list-style: none;
  padding: 0;
  margin: 14px 0;
}

.legs li {
  display: grid;
  grid-template-columns: 34px minmax(0, 1fr) auto;
  gap: 12px;
  align-items: start;
  padding: 12px 14px;
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}

.legs li + li {
  margin-top: 18px;
  position: relative;
}

.legs li + li::before {
  content: '';
  position: absolute;
  top: -19px;
  left: 30px;
  height: 18px;
  border-left: 2px solid rgba(var(--v-border-color), 0.4);
}

.place {
  width: 30px;
  height: 30px;
  border-radius: 50%;
  border: 2px solid rgb(var(--v-theme-primary));
  display: grid;
  place-items: center;
  font-weight: 700;
}

.shut .place {
  border-color: rgb(var(--v-theme-error));
}

.told,
.usual {
  font-size: 0.86rem;
}

.usual {
  text-align: right;
  font-variant-numeric: tabular-nums;
}

.actions {
  display: flex;
  gap: 8px;
}

@media (max-width: 700px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
    gap: 12px;
  }

  .names {
    display: flex;
    flex-wrap: wrap;
  }
}
</style>
