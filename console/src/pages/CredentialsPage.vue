<script setup lang="ts">
// Credentials: names, versions, states, last use; never a secret.
import { mdiPlus } from '@mdi/js'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Credential, type Engine, type Schemas } from '@/api/client'
import CodeText from '@/components/CodeText.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'

const route = useRoute()
const router = useRouter()
const rows = ref<Credential[]>([])
const engines = ref<Engine[]>([])
const trial = ref<Schemas['TrialAnswer']>()
const loading = ref(true)
const error = ref<unknown>()
const told = ref('')
const busy = ref('')
const old = ref(false)
const adding = ref(false)
const chosen = ref('')
const name = ref('')
const parts = ref<Record<string, string>>({})
const file = ref<File | null>(null)
const revoking = ref('')
const rekeying = ref(false)
let timer: ReturnType<typeof setInterval> | undefined

const past = ['superseded', 'revoked']
const shown = computed(() => rows.value.filter((row) => old.value || !past.includes(row.state)))
const needing = computed(() => engines.value.filter((engine) => engine.parts.length))
const engine = computed(() => engines.value.find((one) => one.name === chosen.value))
const moved = (row: Credential) => engines.value.some((one) => one.name === row.engine && one.reason?.includes('bound to'))
const whole = computed(() => Boolean(file.value) || (engine.value?.parts.every((part) => parts.value[part]) ?? false))

watch(chosen, () => (parts.value = {}))

async function load() {
  try {
    rows.value = (await ask(api.GET('/api/v1/credentials'))).items
    engines.value = (await ask(api.GET('/api/v1/engines'))).items
    error.value = undefined
  } catch (caught) {
    error.value = caught
  } finally {
    loading.value = false
  }
}

async function doing(what: string, work: () => Promise<void>) {
  busy.value = what
  error.value = undefined
  told.value = ''
  try {
    await work()
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = ''
    await load()
  }
}

function open(engineName: string, credential = '') {
  chosen.value = engineName
  name.value = credential
  file.value = null
  parts.value = {}
  adding.value = true
}

const add = () =>
  doing('add', async () => {
    const from = file.value ? { key_file: await file.value.text() } : { parts: parts.value }
    const kept = await ask(api.POST('/api/v1/credentials', { body: { engine: chosen.value, name: name.value || null, ...from } }))
    // What was typed leaves the page.
    parts.value = {}
    file.value = null
    adding.value = false
    const because = kept.cause ? ` (${kept.cause})` : ''
    const version = `${kept.name} version ${kept.version}`
    const results: Record<string, string> = {
      active: `${version} is active.`,
      unproven: `${version} is in use, but unproven: if the engine refuses it, the previous version is used.`,
      pending: `${version} is pending${because}: it is tried again for a day; until then, the previous version stays in use.`,
    }
    told.value = results[kept.state] ?? `${kept.engine} does not accept ${version}${because}; the previous version stays in use.`
    await router.replace({ query: {} })
  })

const check = (row: Credential) =>
  doing(`check ${row.name}`, async () => {
    trial.value = await ask(api.POST('/api/v1/credentials/{name}/check', { params: { path: { name: row.name } } }))
  })

const confirm = (row: Credential) =>
  doing(`confirm ${row.name}`, async () => {
    const kept = await ask(api.POST('/api/v1/credentials/{name}/confirm', { params: { path: { name: row.name } } }))
    told.value = `${kept.name} is bound to ${kept.host}.`
  })

const revoke = () =>
  doing('revoke', async () => {
    const gone = revoking.value
    revoking.value = ''
    const { error: problem, response } = await api.DELETE('/api/v1/credentials/{name}', { params: { path: { name: gone } } })
    if (!response.ok) throw new Error(problem ? JSON.stringify(problem) : response.statusText)
    told.value = `${gone} is revoked, and its secret is erased.`
  })

const rekey = () =>
  doing('rekey', async () => {
    rekeying.value = false
    const changed = await ask(api.POST('/api/v1/root-key'))
    told.value = `The root key is changed; ${changed.credentials} credentials are sealed under the new one.`
  })

onMounted(async () => {
  await load()
  if (typeof route.query.add === 'string') open(route.query.add)
  // A pending one becomes live by itself.
  timer = setInterval(() => {
    if (!document.hidden && rows.value.some((row) => row.state === 'pending')) void load()
  }, 3000)
})
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <div class="page">
    <h1>Credentials</h1>
    <p class="lead quiet">Credentials of engines, stored encrypted. Secrets are never shown again.</p>
    <div class="top">
      <v-btn color="primary" :prepend-icon="mdiPlus" data-test="add-credential" @click="open('')">Add a credential</v-btn>
      <v-btn variant="text" @click="rekeying = true">Change the root key</v-btn>
      <v-checkbox v-model="old" label="Show past versions" density="compact" hide-details />
    </div>
    <ProblemNote :error="error" />
    <p v-if="told" role="status" class="my-3" data-test="told">{{ told }}</p>
    <v-alert v-if="trial" :type="trial.works ? 'success' : trial.works === false ? 'error' : 'info'" variant="tonal" border="start" closable class="my-3" data-test="trial" @click:close="trial = undefined">
      <strong>{{ trial.credential.name }} version {{ trial.credential.version }} {{ trial.works ? 'works' : trial.works === false ? 'does not work' : 'is unproven' }}</strong>
      <div>{{ trial.told }}</div>
      <div v-if="trial.roles.length" class="small">Rights: {{ trial.roles.join(', ') }}</div>
    </v-alert>
    <v-progress-linear v-if="loading" indeterminate color="primary" aria-label="Loading credentials" />
    <v-table v-if="shown.length" class="table cards mt-4">
      <thead><tr><th scope="col">Credential</th><th scope="col">State</th><th scope="col">Parts</th><th scope="col">Bound to</th><th scope="col">Last used</th><th scope="col"><span class="d-sr-only">Actions</span></th></tr></thead>
      <tbody>
        <tr v-for="row in shown" :key="`${row.name} ${row.version}`" data-test="credential-row">
          <td><strong>{{ row.name }}</strong> <span class="quiet">version {{ row.version }}</span><div class="quiet small">for <router-link :to="`/engines/${row.engine}`">{{ row.engine }}</router-link>, by {{ row.created_by }} <TimeAgo :time="row.created" /></div></td>
          <td>
            <StateMark :state="row.state" /><div v-if="row.cause" class="quiet small">{{ row.cause }}</div>
            <div v-else-if="row.state === 'unproven'" class="quiet small">No call has used it yet. If the engine refuses it, the previous version is used.</div>
          </td>
          <td class="small" data-label="Parts">{{ row.parts.join(', ') }}</td>
          <td class="small" data-label="Bound to"><div><span class="code">{{ row.host }}</span><div v-if="moved(row)"><v-btn size="x-small" variant="tonal" color="warning" @click="confirm(row)">Confirm the new address</v-btn></div></div></td>
          <td data-label="Last used"><TimeAgo v-if="row.last_used" :time="row.last_used" /><span v-else class="quiet">never</span></td>
          <td class="do">
            <template v-if="!past.includes(row.state)">
              <v-btn size="small" variant="text" :loading="busy === `check ${row.name}`" :aria-label="`Check ${row.name}`" @click="check(row)">Check</v-btn>
              <v-btn size="small" variant="text" :aria-label="`Replace ${row.name}`" @click="open(row.engine, row.name)">Replace</v-btn>
              <v-btn size="small" variant="text" color="error" :aria-label="`Revoke ${row.name}`" @click="revoking = row.name">Revoke</v-btn>
            </template>
          </td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="!loading && !error" class="mt-6">No credentials yet. Add one for each cloud engine; local engines need none.</p>

    <v-dialog v-model="adding" max-width="620">
      <v-card :title="name ? `Replace ${name}` : 'Add a credential'">
        <v-card-text>
          <v-select v-model="chosen" :items="needing.map((one) => one.name)" label="Engine" :disabled="Boolean(name)" data-test="credential-engine" />
          <ol v-if="engine?.guide.length" class="steps quiet mb-3"><li v-for="step in engine.guide" :key="step"><CodeText :text="step" /></li></ol>
          <template v-if="engine">
            <v-text-field v-for="part in engine.parts" :key="part" v-model="parts[part]" :label="part" type="password" autocomplete="off" :disabled="Boolean(file)" :data-test="`part-${part}`" />
            <v-file-input v-model="file" label="Or a key file (JSON)" accept="application/json,.json" density="compact" />
          </template>
          <p class="quiet small">The credential is used once the engine accepts it. Until then, the previous version stays in use. Running calls are not interrupted.</p>
          <ProblemNote :error="error" />
        </v-card-text>
        <v-card-actions>
          <v-spacer />
          <v-btn @click="adding = false">Cancel</v-btn>
          <v-btn color="primary" :loading="busy === 'add'" :disabled="!whole" data-test="keep-credential" @click="add">Add</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
    <v-dialog :model-value="Boolean(revoking)" max-width="460" @update:model-value="revoking = ''">
      <v-card :title="`Revoke ${revoking}?`">
        <v-card-text>The secrets of all versions are erased, and {{ rows.find((row) => row.name === revoking)?.engine }} can no longer be called. The key stays valid at the engine: revoke it there too.</v-card-text>
        <v-card-actions><v-spacer /><v-btn @click="revoking = ''">Cancel</v-btn><v-btn color="error" @click="revoke">Revoke {{ revoking }}</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <v-dialog v-model="rekeying" max-width="460">
      <v-card title="Change the root key?">
        <v-card-text>A new key is created on the host, and all credentials are sealed under it at run time. Earlier backups of the records need the old key: keep it with them.</v-card-text>
        <v-card-actions><v-spacer /><v-btn @click="rekeying = false">Cancel</v-btn><v-btn color="primary" @click="rekey">Change the root key</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: center;
}

.small {
  font-size: 0.86rem;
}

.table td {
  padding-block: 7px !important;
}

.do {
  white-space: nowrap;
  text-align: right;
}

.steps {
  padding-left: 22px;
}
</style>
