<script setup lang="ts">
import { mdiTableLarge } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import FileDrop from '@/components/FileDrop.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { useAsync } from '@/useAsync'

type Summary = Schemas['PromptSetSummary']

const router = useRouter()
const rows = ref<Summary[]>([])
const { error, busy, done, run } = useAsync()
const file = ref<File>()
const name = ref('')

/** Media types of tables by the endings of their names. */
const tables: Record<string, string> = { toml: 'application/toml', csv: 'text/csv', json: 'application/json' }
const kind = computed(() => tables[file.value?.name.split('.').at(-1)?.toLowerCase() ?? ''])

const load = () =>
  run(async () => {
    rows.value = (await ask(api.GET('/api/v1/prompt-sets'))).items
  })

watch(file, (given) => {
  const stem = given?.name.replace(/\.[^.]+$/, '').toLowerCase() ?? ''
  name.value = stem.replace(/[^a-z0-9]+/g, '-').replace(/^-+|-+$/g, '').slice(0, 40)
})

const keep = () =>
  run(async () => {
    if (!file.value || !kind.value) return
    const headers = { 'Content-Type': kind.value }
    await fetchRaw(`/api/v1/prompt-sets/${encodeURIComponent(name.value)}`, { method: 'PUT', headers, body: file.value })
    await router.push(`/jobs/prompts/${name.value}`)
  }, 'keep')

onMounted(load)
</script>

<template>
  <div class="page">
    <h1>Prompt sets</h1>
    <p class="lead quiet">Tables of texts with their audio files. Only files that have changed are made again. <router-link to="/jobs">Jobs</router-link> are for long documents.</p>
    <FileDrop v-model="file" :icon="mdiTableLarge" label="Add a prompt set" test="table">
      <template #told>
        <template v-if="file"><strong>{{ file.name }}</strong><br /><span class="quiet">{{ kind ? 'a table of prompts' : 'not a table: its name ends in .toml, .csv or .json' }}</span></template>
        <template v-else><strong>Drop a table of prompts</strong><br /><span class="quiet">TOML or CSV with the columns id, text, voice, language, formats; or choose a file</span></template>
      </template>
      <v-text-field v-if="kind" v-model="name" label="Name of the set" hide-details data-test="name" />
      <v-btn v-if="kind" color="primary" variant="flat" :loading="busy === 'keep'" :disabled="!name" data-test="keep" @click="keep">Add</v-btn>
    </FileDrop>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading prompt sets" />
    <v-table v-if="rows.length" class="table mt-5" density="comfortable">
      <thead><tr><th scope="col">Set</th><th scope="col">App</th><th scope="col" class="number">Prompts</th><th scope="col">Changed</th><th scope="col" class="wide">By</th></tr></thead>
      <tbody>
        <tr v-for="row in rows" :key="row.name" data-test="set">
          <td><router-link :to="`/jobs/prompts/${row.name}`">{{ row.name }}</router-link></td>
          <td>{{ row.app }}</td>
          <td class="number">{{ row.prompts }}</td>
          <td><TimeAgo :time="row.changed" /></td>
          <td class="wide">{{ row.changed_by }}</td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="done && !error" class="mt-5">No prompt sets yet. Drop a table above; each row needs an id and a text.</p>
  </div>
</template>
