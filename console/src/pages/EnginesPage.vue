<script setup lang="ts">
// Engines by state, each with its reason and the next step.
import { mdiMagnify, mdiPlus } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Engine } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import SheetEditor from '@/components/SheetEditor.vue'
import StateMark from '@/components/StateMark.vue'
import { useAsync } from '@/useAsync'

const route = useRoute()
const router = useRouter()
const from = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : '')
const search = ref(from('search'))
const state = ref(from('state'))
const engines = ref<Engine[]>([])
const { error, done, run } = useAsync()
const adding = ref(false)

// What needs a hand comes first.
const order = ['refused', 'absent', 'ready']
const shown = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  return engines.value
    .filter((engine) => !state.value || engine.state === state.value)
    .filter((engine) => words.every((word) => `${engine.name} ${engine.title} ${engine.site}`.toLowerCase().includes(word)))
    .sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state) || a.name.localeCompare(b.name))
})
const counts = computed(() =>
  order
    .map((name) => ({ name, count: engines.value.filter((engine) => engine.state === name).length }))
    .filter((row) => row.count > 0),
)
const does = (engine: Engine) => [engine.synthesis && 'synthesis', engine.recognition && 'recognition'].filter(Boolean).join(', ')
const limits = (engine: Engine) =>
  [
    engine.pace.per_minute && `${engine.pace.per_minute} a minute`,
    engine.pace.at_once && `${engine.pace.at_once} at once`,
    typeof engine.pace.left === 'number' && `${engine.pace.left} left now`,
    engine.pace.waiting && `${engine.pace.waiting} waiting`,
  ]
    .filter(Boolean)
    .join(', ') || '–'

watch([search, state], () => {
  const query = Object.fromEntries(Object.entries({ search: search.value, state: state.value }).filter(([, value]) => value))
  void router.replace({ query })
})

const load = () =>
  run(async () => {
    engines.value = (await ask(api.GET('/api/v1/engines'))).items
  })

async function added(name: string) {
  adding.value = false
  await router.push(`/engines/${name}`)
}

onMounted(load)
</script>

<template>
  <div class="page">
    <h1>Engines</h1>
    <p class="lead quiet">All engines with their state. Add an engine by its sheet; no code is needed.</p>
    <div class="top">
      <v-text-field v-model="search" data-search label="Search" :prepend-inner-icon="mdiMagnify" clearable hide-details @click:clear="search = ''" />
      <v-chip-group v-model="state" aria-label="State">
        <v-chip v-for="row in counts" :key="row.name" :value="row.name" filter variant="outlined">{{ row.name }} ({{ row.count }})</v-chip>
      </v-chip-group>
      <v-btn color="primary" :prepend-icon="mdiPlus" data-test="add-engine" @click="adding = true">Add an engine</v-btn>
    </div>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading engines" />
    <v-table v-if="shown.length" class="table cards mt-4">
      <thead>
        <tr><th scope="col">Engine</th><th scope="col">State</th><th scope="col">Work</th><th scope="col" class="number">Voices</th><th scope="col">Pace</th><th scope="col">List price</th></tr>
      </thead>
      <tbody>
        <tr v-for="engine in shown" :key="engine.name" data-test="engine-row">
          <td class="name"><router-link :to="`/engines/${engine.name}`"><strong>{{ engine.title }}</strong></router-link><div class="quiet small"><span class="code">{{ engine.name }}</span> · {{ engine.site }}</div></td>
          <td><StateMark :state="engine.state" /><div v-if="engine.reason" class="quiet small reason">{{ engine.reason }}</div><div v-if="engine.catalogue?.problem" class="small reason text-warning">▲ The list of voices is stale: {{ engine.catalogue.problem }}</div></td>
          <td data-label="Work">{{ does(engine) }}</td>
          <td class="number" data-label="Voices">{{ engine.synthesis ? engine.voices : '–' }}</td>
          <td data-label="Pace">{{ limits(engine) }}</td>
          <td class="small price" data-label="List price">{{ engine.price.startsWith('0 ') ? 'free' : engine.price }}</td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="done && !error" class="mt-6">No engine matches. Clear the filter, or add an engine by its sheet.</p>
    <v-dialog v-model="adding" max-width="900" scrollable>
      <v-card title="Add an engine">
        <v-card-text><SheetEditor @saved="added" /></v-card-text>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.top {
  display: grid;
  grid-template-columns: minmax(200px, 1fr) auto auto;
  gap: 16px;
  align-items: center;
}

.small {
  font-size: 0.86rem;
}

.reason {
  max-width: 46ch;
}

.table td {
  padding-block: 7px !important;
}

.name,
.price {
  white-space: nowrap;
}

@media (max-width: 760px) {
  .top {
    grid-template-columns: 1fr;
  }
}
</style>
