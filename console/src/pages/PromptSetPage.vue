<script setup lang="ts">
import { mdiCancel, mdiCheck, mdiDeleteOutline, mdiDownload, mdiPlay, mdiRefresh } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import FixWord from '@/components/FixWord.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { decimals, money, seconds } from '@/format'
import { useAsync } from '@/useAsync'

type PromptSet = Schemas['PromptSetAnswer']
type Line = PromptSet['lines'][number]

const route = useRoute()
const router = useRouter()
const name = String(route.params['name'])
const path = { params: { path: { name } } }
const set = ref<PromptSet>()
const { error, run } = useAsync()
const sound = ref<Blob>()
const heard = ref<Line>()
const making = ref<{ done: number; of: number }>()
const busy = ref('')
const removing = ref(false)
let stopped = false

const open = computed(() => set.value?.lines.filter((line) => line.state === 'new' || line.state === 'changed') ?? [])
const digits = computed(() => decimals(set.value?.lines.map((line) => line.cost) ?? []))
const cost = computed(() => set.value?.cost.map((amount) => money(amount)).join(', ') ?? '')
const ready = computed(() => !!set.value && set.value.lines.every((line) => line.state === 'made'))

const change = (call: Promise<PromptSet>) =>
  run(async () => {
    set.value = await call
  })

/** What is heard, without markup. */
function says(line: Line) {
  if (!line.ssml) return line.text
  const text = new DOMParser().parseFromString(line.ssml, 'text/xml').documentElement.textContent
  return text?.replace(/\s+/g, ' ').trim() || line.ssml
}

const load = () => change(ask(api.GET('/api/v1/prompt-sets/{name}', path)))
const make = (ids: string[]) => change(ask(api.POST('/api/v1/prompt-sets/{name}/make', { ...path, body: { ids } })))

/** One prompt after the other, so that one sees how far it is and can stop. */
async function makeAll() {
  const ids = [...new Set(open.value.map((line) => line.id))]
  stopped = false
  for (const [done, id] of ids.entries()) {
    making.value = { done, of: ids.length }
    if (stopped || !(await make([id]))) break
  }
  making.value = undefined
}

async function makeOne(line: Line) {
  busy.value = line.id
  await make([line.id])
  busy.value = ''
}

async function approve(line: Line) {
  const approved = !line.file?.approved
  const params = { path: { name, id: line.id } }
  await change(ask(api.PUT('/api/v1/prompt-sets/{name}/prompts/{id}/approval', { params, body: { approved } })))
}

async function play(line: Line) {
  if (!line.file) return
  heard.value = line
  sound.value = undefined
  const { type, url } = line.file
  await run(async () => {
    // What a browser does not play, such as the telephone's, is heard as WAV.
    const plays = document.createElement('audio').canPlayType(type) !== ''
    sound.value = await (await fetchRaw(plays ? url : `${url}?type=audio/wav`, {})).blob()
  })
}

async function remove() {
  removing.value = false
  await run(async () => {
    await fetchRaw(`/api/v1/prompt-sets/${name}`, { method: 'DELETE' })
    await router.push('/jobs/prompts')
  })
}

onMounted(load)
</script>

<template>
  <div class="page">
    <h1>{{ name }}</h1>
    <p v-if="set" class="lead quiet">
      {{ set.prompts }} prompts of {{ set.app }}, {{ set.lines.length }} files; changed <TimeAgo :time="set.changed" /> by {{ set.changed_by }}.
      <router-link to="/jobs/prompts">All sets</router-link>
    </p>
    <ProblemNote :error="error" />
    <section v-if="set" class="acts" aria-label="Actions of the set">
      <div>
        <strong data-test="to-make">{{ open.length ? `${open.length} of ${set.lines.length} files to make, for ${cost}` : 'All files match their rows' }}</strong><br />
        <span class="quiet">{{ set.approved }} of {{ set.lines.length }} approved</span>
      </div>
      <v-btn v-if="making" :prepend-icon="mdiCancel" variant="outlined" @click="stopped = true">Stop ({{ making.done }} of {{ making.of }} made)</v-btn>
      <v-btn v-else color="primary" variant="flat" :disabled="!open.length" data-test="make" @click="makeAll">Make changed files</v-btn>
      <v-btn :prepend-icon="mdiDownload" variant="outlined" :disabled="!ready" :href="`/api/v1/prompt-sets/${name}/archive`">Archive</v-btn>
      <v-btn :prepend-icon="mdiDeleteOutline" variant="text" @click="removing = true">Remove</v-btn>
    </section>
    <v-progress-linear v-if="making" :model-value="(100 * making.done) / making.of" color="primary" aria-label="Making prompts" />
    <div v-if="heard" class="hear">
      <span class="quiet">{{ heard.id }}, {{ heard.format }}</span>
      <SoundPlayer v-if="sound && heard.file" :source="sound" :name="heard.file.name" autoplay />
      <FixWord :text="says(heard) ?? ''" @fixed="load" />
    </div>
    <v-table v-if="set" density="comfortable" class="table cards">
      <thead><tr><th scope="col">Prompt</th><th scope="col">Text</th><th scope="col">Format</th><th scope="col">State</th><th scope="col" class="number">Duration</th><th scope="col" class="number">Cost</th><th scope="col">Approval</th><th scope="col"><span class="d-sr-only">Actions</span></th></tr></thead>
      <tbody>
        <tr v-for="line in set.lines" :key="`${line.id} ${line.format}`" data-test="line">
          <td><strong>{{ line.id }}</strong></td>
          <td class="says"><span :title="line.ssml ?? ''">{{ says(line) }}</span> <span v-if="line.ssml" class="quiet">SSML</span><span v-if="line.problem" class="problem"><br />{{ line.problem }}</span></td>
          <td data-label="Format">{{ line.format }}</td>
          <td><StateMark :state="line.state" /></td>
          <td class="number" data-label="Duration">{{ line.file ? seconds(line.file.duration) : '–' }}</td>
          <td class="number" data-label="Cost">{{ line.state === 'made' ? '–' : money(line.cost, digits) }}</td>
          <td>
            <v-btn v-if="line.state === 'made'" size="small" :variant="line.file?.approved ? 'tonal' : 'outlined'" :prepend-icon="line.file?.approved ? mdiCheck : undefined" :title="line.file?.approved ? `by ${line.file.approved_by}` : ''" data-test="approve" @click="approve(line)">{{ line.file?.approved ? 'Approved' : 'Approve' }}</v-btn>
          </td>
          <td class="row-acts">
            <v-btn v-if="line.file" :icon="mdiPlay" size="small" variant="text" :aria-label="`Play ${line.id}, ${line.format}`" @click="play(line)" />
            <v-btn v-if="line.state !== 'made'" :icon="mdiRefresh" size="small" variant="text" :loading="busy === line.id" :disabled="!!making" :aria-label="`Make ${line.id}`" @click="makeOne(line)" />
          </td>
        </tr>
      </tbody>
    </v-table>
    <v-dialog v-model="removing" max-width="460">
      <v-card>
        <v-card-title>Remove {{ name }}?</v-card-title>
        <v-card-text>The table and its {{ set?.lines.length }} files are deleted. Their cost stays in the ledger.</v-card-text>
        <v-card-actions>
          <v-spacer />
          <v-btn @click="removing = false">Cancel</v-btn>
          <v-btn color="error" variant="flat" @click="remove">Remove {{ name }}</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
  align-items: center;
  margin: 12px 0 18px;
}

.acts > div {
  flex: 1 1 260px;
}

.hear {
  margin: 0 0 16px;
}

.says {
  min-width: 200px;
  max-width: 420px;
  overflow-wrap: anywhere;
}

.problem {
  color: rgb(var(--v-theme-error));
}

.row-acts {
  white-space: nowrap;
  text-align: right;
}
</style>
