<script setup lang="ts">
// The same audio by several recognisers: errors against what was said, and agreement.
import { mdiFileMusicOutline } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, fetchRaw, type Schemas, type Transcript } from '@/api/client'
import FileDrop from '@/components/FileDrop.vue'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { placeKind } from '@/comparison'
import { percent } from '@/format'
import { hearers, type HearerChoice } from '@/hearers'
import { useSession } from '@/session'
import { useAsync } from '@/useAsync'

type Request = Schemas['ComparisonRequest']

const session = useSession()
const choices = ref<HearerChoice[]>([])
const chosen = ref<string[]>([])
const file = ref<File>()
const reference = ref('')
const estimates = ref<{ name: string; cost: Schemas['Amount'] }[]>([])
const faults = ref<{ name: string; why: string }[]>([])
const request = ref<Request>()
const compared = ref<Schemas['ComparisonAnswer']>()
const { error, busy, run } = useAsync()
let turn = 0

const nameOf = (choice: string) => choice.split('=')[1] ?? choice
const entries = computed(() => request.value?.transcripts ?? [])

onMounted(() =>
  run(async () => {
    choices.value = await hearers()
  }),
)

async function hear<T>(path: string, choice: string, audio: File): Promise<T> {
  const [kind, name] = choice.split('=')
  const type = audio.type.startsWith('audio/') ? audio.type : 'application/octet-stream'
  const query = `${kind}=${encodeURIComponent(name ?? '')}`
  const answer = await fetchRaw(`${path}?${query}`, { method: 'POST', headers: { 'Content-Type': type, Accept: 'application/json' }, body: audio })
  return (await answer.json()) as T
}

/** What each recogniser would cost, before one is called. */
watch([file, chosen], async () => {
  const mine = ++turn
  const audio = file.value
  estimates.value = []
  if (!audio) return
  const told = await Promise.allSettled(chosen.value.map((choice) => hear<Schemas['EstimateAnswer']>('/api/v1/estimates', choice, audio)))
  if (mine !== turn) return
  estimates.value = told.flatMap((one, at) => (one.status === 'fulfilled' ? [{ name: nameOf(chosen.value[at] ?? ''), cost: one.value.cost }] : []))
})

const compare = () =>
  run(async () => {
    const audio = file.value
    if (!audio) return
    compared.value = undefined
    const heard = await Promise.allSettled(chosen.value.map((choice) => hear<Transcript>('/api/v1/transcripts', choice, audio)))
    const names = chosen.value.map(nameOf)
    faults.value = heard.flatMap((one, at) => (one.status === 'rejected' ? [{ name: names[at] ?? '', why: String(one.reason.message) }] : []))
    const transcripts = heard.flatMap((one, at) =>
      one.status === 'fulfilled' ? [{ name: names[at] ?? '', text: one.value.text, words: one.value.words.map(known), cost: one.value.cost }] : [],
    )
    if (!transcripts.length) return
    const body: Request = { reference: reference.value.trim() || null, transcripts }
    request.value = body
    compared.value = await ask(api.POST('/api/v1/transcripts/compare', { body }))
  }, 'compare')

/** A word without the members that nobody knows. */
const known = (word: Transcript['words'][number]) => Object.fromEntries(Object.entries(word).filter(([, value]) => value != null)) as Record<string, never>

const saveReport = () =>
  run(async () => {
    const init = { method: 'POST', headers: { 'Content-Type': 'application/json', Accept: 'text/html' }, body: JSON.stringify(request.value) }
    const page = await (await fetchRaw('/api/v1/transcripts/compare', init)).blob()
    const link = document.createElement('a')
    link.href = URL.createObjectURL(page)
    link.download = 'comparison.html'
    link.click()
    URL.revokeObjectURL(link.href)
  }, 'report')
</script>

<template>
  <section>
    <p class="lead quiet mt-4">One recording by several recognisers: errors against what was said, and how far they agree.</p>
    <ProblemNote :error="error" />
    <p v-if="session.readsOnly" class="quiet">Your role reads only. Recognisers are compared by operators and app owners.</p>
    <form v-else class="compare-form" @submit.prevent="compare">
      <FileDrop v-model="file" :icon="mdiFileMusicOutline" label="The recording" test="compare-audio">
        <template #told>{{ file?.name ?? 'Drop a recording here, or choose one' }}</template>
      </FileDrop>
      <v-select v-model="chosen" :items="choices" multiple chips closable-chips label="Recognisers, 1 to 8" hide-details data-test="compare-hearers" />
      <v-textarea v-model="reference" label="What was said, to count errors (optional)" rows="2" auto-grow maxlength="10000" hide-details data-test="compare-reference" />
      <p v-if="estimates.length" class="quiet" data-test="compare-estimates">Will cost at most: <template v-for="(one, at) in estimates" :key="one.name">{{ at ? ', ' : '' }}{{ one.name }} <MoneyAmount :amount="one.cost" /></template></p>
      <v-btn type="submit" color="primary" variant="flat" :disabled="!file || !chosen.length || chosen.length > 8" :loading="busy === 'compare'" data-test="compare-recognisers">Compare</v-btn>
    </form>
    <v-progress-linear v-if="busy === 'compare'" indeterminate color="primary" aria-label="The recognisers listen" />
    <p v-for="fault in faults" :key="fault.name" class="text-warning">▲ {{ fault.name }}: {{ fault.why }}</p>
    <template v-if="compared">
      <template v-if="compared.reference">
        <v-table class="table mt-6" density="comfortable">
          <thead><tr><th scope="col">Recogniser</th><th scope="col" class="number">Word errors</th><th scope="col" class="number wide">Character errors</th><th scope="col" class="number wide">Substituted</th><th scope="col" class="number wide">Missing</th><th scope="col" class="number wide">Inserted</th><th scope="col" class="number">Cost</th></tr></thead>
          <tbody>
            <tr v-for="line in compared.transcripts" :key="line.name" data-test="recogniser">
              <td>{{ line.name }}</td>
              <td class="number">{{ percent(line.words.rate) }}</td>
              <td class="number wide">{{ percent(line.characters.rate) }}</td>
              <td class="number wide">{{ line.words.substituted }}</td>
              <td class="number wide">{{ line.words.missing }}</td>
              <td class="number wide">{{ line.words.inserted }}</td>
              <td class="number"><MoneyAmount v-if="line.cost" :amount="line.cost" /><template v-else>–</template></td>
            </tr>
          </tbody>
        </v-table>
        <p class="quiet legend mt-3"><span class="place substituted"><del>said</del> heard</span> another word <del class="place missing">said</del> missing <ins class="place inserted">heard</ins> inserted</p>
        <div v-for="line in compared.transcripts" :key="line.name">
          <h2>{{ line.name }}</h2>
          <p class="aligned" dir="auto" data-test="alignment">
            <template v-for="(place, at) in line.alignment" :key="at">
              <span v-if="placeKind(place) === 'same'">{{ place.heard }}</span>
              <span v-else-if="placeKind(place) === 'substituted'" class="place substituted"><del>{{ place.reference }}</del> {{ place.heard }}</span>
              <del v-else-if="placeKind(place) === 'missing'" class="place missing">{{ place.reference }}</del>
              <ins v-else class="place inserted">{{ place.heard }}</ins>{{ ' ' }}
            </template>
          </p>
        </div>
      </template>
      <template v-else>
        <div v-for="entry in entries" :key="entry.name"><h2>{{ entry.name }}</h2><p dir="auto" data-test="heard">{{ entry.text || 'No words were recognised.' }}</p></div>
        <div v-if="compared.consensus"><h2>Consensus</h2><p dir="auto">{{ compared.consensus.text }}</p></div>
      </template>
      <ul v-if="compared.agreement.length" class="boxes">
        <li v-for="pair in compared.agreement" :key="pair.first + pair.second" data-test="agreement"><span>{{ pair.first }} and {{ pair.second }} <strong>agree on {{ percent(pair.agreement) }}</strong> of the words</span></li>
      </ul>
      <p><v-btn variant="tonal" :loading="busy === 'report'" data-test="save-report" @click="saveReport">Save the report</v-btn></p>
    </template>
  </section>
</template>

<style scoped>
.aligned {
  line-height: 1.9;
  max-width: 760px;
}

.place {
  padding: 1px 4px;
  border-radius: 3px;
  text-decoration: none;
}

.legend .place,
.legend .place + .place {
  margin-left: 6px;
}

.substituted {
  background: rgb(var(--v-theme-warning), 0.22);
}

.missing {
  background: rgb(var(--v-theme-error), 0.2);
  text-decoration: line-through;
}

.inserted {
  background: rgb(var(--v-theme-info), 0.22);
  text-decoration: underline;
}
</style>
