<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'
import { amount, limits, period, periods, request, type Allowance } from '@/allowances'
import { api, ask, gone, type Schemas } from '@/api/client'
import AllowanceBar from '@/components/AllowanceBar.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { useAsync } from '@/useAsync'

const route = useRoute()
const name = computed(() => String(route.params.name))
const app = ref<Schemas['AppAnswer']>()
const keys = ref<Schemas['KeyAnswer'][]>([])
const allowances = ref<Allowance[]>([])
const secret = ref('')
const label = ref('')
const asking = ref<{ title: string; verb: string; act: () => Promise<unknown> }>()
const form = reactive({ limit: 'cost', amount: '', currency: 'EUR', per: 'month', key: null as string | null })
const { error, busy, done, run } = useAsync()

const active = computed(() => keys.value.filter((key) => key.state === 'active'))
const of = { params: { path: { name: name.value } } }
const whole = (id: string) => ({ params: { path: { name: name.value, id } } })

/** What a key is granted, in words; empty for everything. */
function granted(key: Schemas['KeyAnswer']) {
  const lists = [key.calls, key.routes, key.engines, key.voices].filter((list) => list.length).map((list) => list.join(', '))
  const from = key.networks.length ? [`from ${key.networks.join(', ')}`] : []
  return [...lists, ...from].join('; ')
}

const load = () =>
  run(async () => {
    const [own, all, limited] = await Promise.all([
      ask(api.GET('/api/v1/apps/{name}', of)),
      ask(api.GET('/api/v1/apps/{name}/keys', of)),
      ask(api.GET('/api/v1/allowances', { params: { query: { app: name.value } } })),
    ])
    app.value = own
    keys.value = all.items
    allowances.value = limited.items
  })

const allow = () =>
  run(async () => {
    await ask(api.POST('/api/v1/apps/{name}/allowances', { ...of, body: request(form) as Schemas['AllowanceRequest'] }))
    form.amount = ''
    await load()
  }, 'allow')

const addKey = () =>
  run(async () => {
    const key = await ask(api.POST('/api/v1/apps/{name}/keys', { ...of, body: { label: label.value } }))
    secret.value = key.key ?? ''
    label.value = ''
    await load()
  }, 'key')

const confirmed = () =>
  run(async () => {
    await asking.value?.act()
    asking.value = undefined
    await load()
  }, 'confirmed')

function askToRemove(allowance: Allowance) {
  const title = `Remove the allowance of ${amount(allowance.limit)} ${period(allowance)}? Use is then no longer limited by it.`
  asking.value = { title, verb: 'Remove', act: () => gone(api.DELETE('/api/v1/apps/{name}/allowances/{id}', whole(allowance.id))) }
}

function askToRevoke(key: Schemas['KeyAnswer']) {
  const title = `Revoke the key ${key.label || key.hint}? Programs that use it are refused at once.`
  asking.value = { title, verb: 'Revoke', act: () => gone(api.DELETE('/api/v1/apps/{name}/keys/{id}', whole(key.id))) }
}

onMounted(load)
</script>

<template>
  <div class="page">
    <router-link to="/apps">Apps</router-link>
    <h1 class="mt-2">{{ app?.title || name }}</h1>
    <p class="lead quiet"><span class="code">{{ name }}</span>: allowances and keys. Other settings: <code>dispatcher app change {{ name }} --help</code></p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading the app" />
    <template v-else>
      <h2>Allowances</h2>
      <div v-for="allowance in allowances" :key="allowance.id" class="line">
        <AllowanceBar :allowance="allowance" />
        <v-btn size="small" variant="text" color="error" :aria-label="`Remove ${amount(allowance.limit)} ${period(allowance)}`" @click="askToRemove(allowance)">Remove</v-btn>
      </div>
      <p v-if="!allowances.length" class="quiet">No allowance: use is not limited.</p>
      <form class="form" data-test="allowance-form" @submit.prevent="allow">
        <v-select v-model="form.limit" :items="limits" item-value="member" item-title="title" label="Limit" hide-details />
        <v-text-field v-model="form.amount" label="Amount" inputmode="decimal" required hide-details data-test="allowance-amount" />
        <v-text-field v-if="form.limit === 'cost'" v-model="form.currency" label="Currency" maxlength="3" hide-details />
        <v-select v-model="form.per" :items="periods" label="Period (UTC)" hide-details />
        <v-select v-model="form.key" :items="[{ title: 'all keys', value: null }, ...active.map((key) => ({ title: key.label || key.hint, value: key.id }))]" label="Key" hide-details />
        <v-btn type="submit" color="primary" variant="flat" :disabled="!form.amount.trim()" :loading="busy === 'allow'" data-test="add-allowance">Add</v-btn>
      </form>
      <h2>Keys</h2>
      <v-table v-if="keys.length" class="table" density="comfortable">
        <thead><tr><th scope="col">Key</th><th scope="col">State</th><th scope="col">Last used</th><th scope="col" class="wide">Created</th><th scope="col"><span class="d-sr-only">Actions</span></th></tr></thead>
        <tbody>
          <tr v-for="key in keys" :key="key.id" data-test="key">
            <td>{{ key.label || 'no label' }}<div class="quiet code">{{ key.hint }}</div><div v-if="granted(key)" class="quiet small">{{ granted(key) }}</div></td>
            <td>{{ key.state === 'active' ? '●' : '▲' }} {{ key.state }}<div v-if="key.expires" class="quiet small">expires <TimeAgo :time="key.expires" /></div></td>
            <td><TimeAgo v-if="key.last_used" :time="key.last_used" /><span v-else>never</span></td>
            <td class="wide"><TimeAgo :time="key.created" /></td>
            <td class="text-right"><v-btn v-if="!key.revoked" size="small" variant="text" color="error" :aria-label="`Revoke ${key.label || key.hint}`" @click="askToRevoke(key)">Revoke</v-btn></td>
          </tr>
        </tbody>
      </v-table>
      <p v-else class="quiet">No keys yet.</p>
      <form class="new-key" @submit.prevent="addKey">
        <v-text-field v-model="label" label="Purpose" hide-details data-test="key-label" />
        <v-btn type="submit" variant="tonal" :loading="busy === 'key'" data-test="add-key">Add a key</v-btn>
      </form>
      <p v-if="secret" role="status">New key, shown only this once: <code data-test="secret">{{ secret }}</code></p>
    </template>
    <v-dialog :model-value="asking !== undefined" max-width="460" @update:model-value="asking = undefined">
      <v-card class="pa-5">
        <p>{{ asking?.title }}</p>
        <div class="actions"><v-btn color="error" variant="flat" :loading="busy === 'confirmed'" data-test="confirm" @click="confirmed">{{ asking?.verb }}</v-btn><v-btn variant="text" @click="asking = undefined">Keep</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  align-items: center;
  gap: 12px;
  max-width: 760px;
  margin-bottom: 14px;
}

.form {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 1fr));
  align-items: center;
  gap: 12px;
  margin-top: 14px;
}

.new-key {
  display: grid;
  grid-template-columns: minmax(0, 320px) auto;
  align-items: center;
  justify-content: start;
  gap: 12px;
  margin-top: 14px;
}

.actions {
  display: flex;
  gap: 8px;
  margin-top: 14px;
}
</style>
