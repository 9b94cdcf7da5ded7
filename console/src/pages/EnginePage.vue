<script setup lang="ts">
// One engine: its state and the next step, its check, its sheet, its voices.
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Check, type Dispatch, type Engine, type Schemas } from '@/api/client'
import CheckMatrix from '@/components/CheckMatrix.vue'
import DispatchTable from '@/components/DispatchTable.vue'
import CodeText from '@/components/CodeText.vue'
import EngineDetails from '@/components/EngineDetails.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import SheetEditor from '@/components/SheetEditor.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { useAsync } from '@/useAsync'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name))
const engine = ref<Engine>()
const catalogue = ref<Schemas['CatalogueAnswer']>()
const failed = ref<Dispatch[]>([])
const matrix = ref<Check>()
const { error, busy, run } = useAsync()
const told = ref('')
const tab = computed({
  get: () => (typeof route.query.tab === 'string' ? route.query.tab : 'access'),
  set: (tab) => void router.replace({ query: { tab } }),
})
const path = () => ({ params: { path: { name: name.value } } })

async function read() {
  engine.value = await ask(api.GET('/api/v1/engines/{name}', path()))
  catalogue.value = await ask(api.GET('/api/v1/engines/{name}/catalogue', path()))
  const list = await ask(api.GET('/api/v1/dispatches', { params: { query: { state: 'failed', engine: name.value, limit: 5 } } }))
  failed.value = list.items
}

const load = () => run(read)

function doing(what: string, work: () => Promise<unknown>) {
  told.value = ''
  return run(work, what)
}

const check = (quick: boolean) =>
  doing('check', async () => {
    matrix.value = await ask(api.POST('/api/v1/engines/{name}/check', { params: { ...path().params, query: { quick } } }))
  })

const refresh = () =>
  doing('refresh', async () => {
    const changes = await ask(api.POST('/api/v1/engines/{name}/catalogue', path()))
    told.value = `${changes.voices} voices: ${changes.added.length} added, ${changes.changed.length} changed, ${changes.removed.length} removed`
    await read()
  })

onMounted(load)
watch(name, load)
</script>

<template>
  <div class="page">
    <p class="quiet small mb-1"><router-link to="/engines">Engines</router-link></p>
    <template v-if="engine">
      <h1>{{ engine.title }}</h1>
      <p class="lead"><StateMark :state="engine.state" /><span v-if="engine.reason" class="quiet"> · {{ engine.reason }}</span></p>
    </template>
    <ProblemNote :error="error" />
    <v-tabs v-if="engine" v-model="tab" density="compact" class="mb-4">
      <v-tab value="access">Access</v-tab>
      <v-tab value="details">Capabilities</v-tab>
      <v-tab value="check">Check</v-tab>
      <v-tab value="sheet">Sheet</v-tab>
      <v-tab v-if="engine.catalogue" value="voices">List of voices</v-tab>
    </v-tabs>
    <template v-if="engine && tab === 'access'">
      <dl class="facts">
        <div class="broad"><dt>Address</dt><dd><span class="code">{{ engine.endpoint ?? 'a program on this host' }}</span><span v-if="engine.sheet_endpoint" class="quiet"><br />this host overrides the sheet: <span class="code">{{ engine.sheet_endpoint }}</span></span></dd></div>
        <div><dt>Access</dt><dd>{{ engine.access }}<span v-if="engine.parts.length" class="quiet"> · {{ engine.parts.join(', ') }}</span></dd></div>
        <div><dt>List price</dt><dd>{{ engine.price }}</dd></div>
        <div><dt>Pace</dt><dd>{{ engine.pace.per_minute ? `${engine.pace.per_minute} calls per minute` : 'no limit per minute' }}, {{ engine.pace.at_once ? `${engine.pace.at_once} at once` : 'no limit at once' }}<template v-if="typeof engine.pace.left === 'number'">; {{ engine.pace.left }} available now, {{ engine.pace.running }} running, {{ engine.pace.waiting }} waiting</template></dd></div>
      </dl>
      <h2>How to get access</h2>
      <ol v-if="engine.guide.length" class="steps"><li v-for="step in engine.guide" :key="step"><CodeText :text="step" /></li></ol>
      <p v-else class="quiet">The sheet has no guide. Add <span class="code">[guide] steps</span> to it.</p>
      <v-btn v-if="engine.parts.length" color="primary" class="mt-3" :to="{ path: '/credentials', query: { add: engine.name } }">Add a credential</v-btn>
      <h2>Last errors</h2>
      <DispatchTable v-if="failed.length" :rows="failed" />
      <p v-else class="quiet">No failed requests.</p>
    </template>
    <template v-if="engine && tab === 'check'">
      <p class="quiet mb-3">Compares the claims of the sheet with the engine. The calls are real, and charged to the console.</p>
      <v-btn color="primary" :loading="busy === 'check'" data-test="check" @click="check(false)">Check everything</v-btn>
      <v-btn class="ml-2" variant="text" :disabled="busy === 'check'" @click="check(true)">Skip limits</v-btn>
      <p v-if="busy === 'check'" class="quiet mt-3" role="status">Calling {{ engine.title }}; this can take a minute.</p>
      <CheckMatrix v-if="matrix" :check="matrix" class="mt-4" />
    </template>
    <EngineDetails v-if="engine && tab === 'details'" :engine="engine" />
    <SheetEditor v-if="engine && tab === 'sheet'" :key="engine.name" :engine="engine.name" :in-force="engine.sheet_endpoint ? engine.endpoint : null" @saved="load" />
    <template v-if="engine && tab === 'voices' && engine.catalogue">
      <p class="mb-3">{{ engine.catalogue.voices }} voices, <template v-if="engine.catalogue.read">read <TimeAgo :time="engine.catalogue.read" /></template><template v-else>from the sheet</template>. <router-link :to="{ path: '/voices', query: { engine: engine.name } }">Audition them</router-link></p>
      <p v-if="engine.catalogue.problem" class="text-warning mb-3">▲ The previous list is shown: {{ engine.catalogue.problem }}</p>
      <v-btn color="primary" :loading="busy === 'refresh'" data-test="refresh" @click="refresh">Fetch the list now</v-btn>
      <span v-if="told" class="ml-3" role="status">{{ told }}</span>
      <h2>Changes</h2>
      <v-table v-if="catalogue?.changes.length" density="compact" class="table">
        <thead><tr><th scope="col">When</th><th scope="col">Voice</th><th scope="col">Change</th></tr></thead>
        <tbody>
          <tr v-for="(change, at) in catalogue.changes" :key="at"><td><TimeAgo :time="change.at" /></td><td class="code">{{ change.voice }}</td><td>{{ change.kind }}<span v-if="change.detail" class="quiet">: {{ change.detail }}</span></td></tr>
        </tbody>
      </v-table>
      <p v-else class="quiet">No changes since the list was first read.</p>
    </template>
  </div>
</template>

<style scoped>
.steps {
  padding-left: 22px;
}

.small {
  font-size: 0.86rem;
}
</style>
