<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { api, ask, type Schemas } from '@/api/client'
import { kind, watched, when, type Alert, type Notice } from '@/alerts'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { useAsync } from '@/useAsync'
import { useEvents } from '@/useEvents'

const alerts = ref<Alert[]>([])
const notices = ref<Notice[]>([])
const engines = ref<string[]>([])
const sent = ref<{ alert: string; items: Schemas['SentAnswer'][] }>()
const editing = ref(false)
const retiring = ref('')
const form = reactive({ name: '', on: 'breaker-open', to: '', threshold: '', engines: [] as string[], after: 0, pause: 30, quiet: '', note: '' })
const { error, busy, done, run } = useAsync()

const counts = computed(() => kind(form.on))

const load = () =>
  run(async () => {
    const [rules, told, all] = await Promise.all([ask(api.GET('/api/v1/alerts')), ask(api.GET('/api/v1/notices')), ask(api.GET('/api/v1/engines'))])
    alerts.value = rules.items
    notices.value = told.items
    engines.value = all.items.map((engine) => engine.name)
  })

function edit(alert?: Alert) {
  const { name = '', on = 'breaker-open', to = [], threshold = null, engines = [], after = 0, pause = 30, quiet = '', note = '' } = alert ?? {}
  Object.assign(form, { name, on, to: to.join('\n'), threshold: threshold ?? '', engines: [...engines], after, pause, quiet: quiet ?? '', note })
  editing.value = true
}

const keep = () =>
  run(async () => {
    const body = {
      on: form.on,
      to: form.to.split(/\s+/).filter(Boolean),
      threshold: counts.value?.counts && form.threshold !== '' ? Number(form.threshold) : null,
      engines: form.engines,
      after: Number(form.after),
      pause: Number(form.pause),
      quiet: form.quiet || null,
      note: form.note,
    }
    await ask(api.PUT('/api/v1/alerts/{name}', { params: { path: { name: form.name } }, body }))
    editing.value = false
    await load()
  }, 'keep')

const attempt = (name: string) =>
  run(async () => {
    const tried = await ask(api.POST('/api/v1/alerts/{name}/try', { params: { path: { name } } }))
    sent.value = { alert: name, items: tried.items }
  }, name)

const retire = () =>
  run(async () => {
    await ask(api.DELETE('/api/v1/alerts/{name}', { params: { path: { name: retiring.value } } }).then((answer) => ({ ...answer, data: answer.response.ok ? true : undefined })))
    retiring.value = ''
    await load()
  }, 'retire')

onMounted(load)
useEvents(load, ['notice'])
</script>

<template>
  <div class="page">
    <h1>Alerts</h1>
    <p class="lead quiet">Messages when something is wrong, and when it is over.</p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading alerts" />
    <template v-else>
      <form v-if="editing" class="form" data-test="alert-form" @submit.prevent="keep">
        <v-text-field v-model="form.name" label="Name" hint="1 to 40 small letters, digits and hyphens" autofocus required />
        <v-select v-model="form.on" :items="watched" item-value="word" item-title="title" label="Condition" />
        <v-text-field v-if="counts?.counts" v-model="form.threshold" type="number" min="1" :label="`Threshold: ${counts.counts}`" :placeholder="`${counts.usual}`" persistent-placeholder />
        <v-select v-if="!['disk-low', 'allowance-share'].includes(form.on)" v-model="form.engines" :items="engines" label="Engines (default: all)" multiple chips />
        <v-textarea v-model="form.to" label="Send to (one address per line)" placeholder="https://watch.saltmarsh.example/alerts" persistent-placeholder rows="2" hint="https://… for a signed webhook, mailto:… for mail" persistent-hint required />
        <div class="row">
          <v-text-field v-model="form.after" type="number" min="0" max="86400" label="After (seconds)" />
          <v-text-field v-model="form.pause" type="number" min="0" max="10080" label="Pause (minutes)" />
          <v-text-field v-model="form.quiet" label="Quiet hours (UTC)" placeholder="22:00-06:00" persistent-placeholder />
        </div>
        <v-text-field v-model="form.note" label="Note in each message" />
        <div class="actions"><v-btn type="submit" color="primary" variant="flat" :loading="busy === 'keep'" data-test="keep-alert">Keep</v-btn><v-btn variant="text" @click="editing = false">Cancel</v-btn></div>
      </form>
      <template v-else>
        <ul v-if="alerts.length" class="alerts boxes">
          <li v-for="alert in alerts" :key="alert.name" data-test="alert">
            <div>
              <strong>{{ alert.name }}</strong>
              <div>{{ when(alert) }}</div>
              <div class="quiet told">to {{ alert.to.join(', ') }}; pause {{ alert.pause }} min<template v-if="alert.quiet">; quiet hours {{ alert.quiet }} UTC</template></div>
              <div v-if="alert.note" class="quiet told">{{ alert.note }}</div>
              <ul v-if="sent?.alert === alert.name" class="sent" role="status">
                <li v-for="one in sent.items" :key="one.to" :class="one.sent ? 'text-success' : 'text-error'">{{ one.sent ? '● sent' : '▲ not sent' }} to {{ one.to }}<template v-if="one.problem">: {{ one.problem }}</template></li>
              </ul>
            </div>
            <div class="actions">
              <v-btn size="small" variant="tonal" :loading="busy === alert.name" data-test="try-alert" @click="attempt(alert.name)">Send a test</v-btn>
              <v-btn size="small" variant="text" @click="edit(alert)">Change</v-btn>
              <v-btn size="small" variant="text" color="error" @click="retiring = alert.name">Retire</v-btn>
            </div>
          </li>
        </ul>
        <p v-else>No alerts yet. Add one to be notified of failing engines before your users notice.</p>
        <v-btn variant="tonal" class="mt-3" data-test="new-alert" @click="edit()">New alert</v-btn>
      </template>
      <h2 class="mt-8">Notices</h2>
      <p class="quiet">Open notices first.</p>
      <v-table v-if="notices.length" class="table" density="comfortable">
        <thead><tr><th scope="col">Since</th><th scope="col">Over</th><th scope="col">Condition</th><th scope="col">Alert</th></tr></thead>
        <tbody>
          <tr v-for="notice in notices" :key="notice.id" data-test="notice">
            <td><TimeAgo :time="notice.since" /></td>
            <td><TimeAgo v-if="notice.over" :time="notice.over" /><span v-else class="text-error">▲ open</span></td>
            <td>{{ notice.detail }}<div v-if="notice.problem" class="text-error told">{{ notice.problem }}</div></td>
            <td>{{ notice.alert }}</td>
          </tr>
        </tbody>
      </v-table>
      <p v-else>No notices yet.</p>
    </template>
    <v-dialog :model-value="retiring !== ''" max-width="460" @update:model-value="retiring = ''">
      <v-card class="pa-5">
        <p>Retire the alert <strong>{{ retiring }}</strong>? It sends no more messages. Its notices are kept.</p>
        <div class="actions"><v-btn color="error" variant="flat" :loading="busy === 'retire'" @click="retire">Retire</v-btn><v-btn variant="text" @click="retiring = ''">Keep</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.sent {
  list-style: none;
  padding: 0;
}

.alerts > li {
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 12px;
}

.told {
  font-size: 0.86rem;
  overflow-wrap: anywhere;
}

.form {
  display: grid;
  gap: 12px;
  max-width: 720px;
}

.row {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(170px, 1fr));
  gap: 12px;
}

.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: start;
}

@media (max-width: 700px) {
  .alerts > li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
