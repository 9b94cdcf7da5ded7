<script setup lang="ts">
import { mdiBullhorn, mdiContentCopy } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, CallError, fetchRaw, type Dispatch, type Schemas, type Voice } from '@/api/client'
import FixWord from '@/components/FixWord.vue'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import ScriptEditor from '@/components/ScriptEditor.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import VoicePicker from '@/components/VoicePicker.vue'
import { kilobytes, milliseconds, seconds } from '@/format'
import { formatChoices, weight, type FormatChoice } from '@/formats'
import { plainText, speechBody, speechCommand, speechCurl } from '@/speech'

const emit = defineEmits<{ mode: [mode: string] }>()
const query = useRoute().query
const text = ref('The 06:15 to Gullsay is delayed by twenty minutes.')
/** Plain text, or a script in SSML. */
const mode = ref(query['mode'] === 'script' ? 'script' : 'text')
const script = ref(`<speak version="1.1" xmlns="http://www.w3.org/2001/10/synthesis" xml:lang="en-GB">
  <p>
    <s>The <say-as interpret-as="time" format="hms24">06:15</say-as> to Gullsay is delayed.</s>
    <break time="400ms"/>
    <s><prosody rate="90%">Please stand clear of the <emphasis>ramp</emphasis>.</prosody></s>
  </p>
  <lang xml:lang="fr-FR">Merci.</lang>
</speak>`)
const fault = ref<{ line: number; column: number; detail: string }>()
const said = computed(() => (mode.value === 'script' ? script.value : text.value))
const voice = ref(typeof query['voice'] === 'string' ? query['voice'] : '')
const model = ref<string | null>(null)
const language = ref<string | null>(null)
const gender = ref<string | null>(null)
const format = ref('audio/mpeg')
const rate = ref(24000)
/** The chosen voice, where it is one and no route. */
const speaker = ref<Voice>()
const languages = ref<string[]>([])
const engines = ref<Schemas['EngineAnswer'][]>([])
const routes = ref<Schemas['RouteSchema'][]>([])
const estimate = ref<Schemas['EstimateAnswer']>()
const busy = ref(false)
const error = ref<unknown>()
const sound = ref<Blob>()
const name = ref('')
const dispatch = ref<Dispatch>()
/** The text that was heard, without markup. */
const spoken = ref('')
const copied = ref('')

const formats = ref<FormatChoice[]>([])
const chosen = computed(() => formats.value.find((one) => one.value === format.value))

/** About as many characters are spoken in a second. */
const CHARACTERS_A_SECOND = 15
const foreseen = computed(() => {
  const plain = mode.value === 'script' ? plainText(script.value) : text.value
  const length = Math.max(1, plain.trim().length / CHARACTERS_A_SECOND)
  const bytes = chosen.value?.bytes(rate.value) ?? rate.value
  return `about ${Math.round(length)} s and ${kilobytes(bytes * length)}`
})
const models = computed(() => {
  if (speaker.value) return speaker.value.models
  const legs = routes.value.find((one) => one.name === voice.value)?.legs.map((leg) => leg.engine)
  return [...new Set(engines.value.filter((one) => one.synthesis && (!legs || legs.includes(one.name))).flatMap((one) => one.models))]
})

const extension = computed(() => chosen.value?.extension ?? '')
const wish = computed(() => ({
  text: said.value,
  script: mode.value === 'script',
  voice: voice.value,
  model: model.value,
  language: language.value,
  format: format.value,
  rate: chosen.value?.preset ? null : rate.value,
  extension: extension.value,
}))
const body = computed(() => speechBody(wish.value))
const asCurl = computed(() => speechCurl(wish.value, location.origin))
const asCommand = computed(() => speechCommand(wish.value))

async function copy(what: string, value: string) {
  await navigator.clipboard?.writeText(value).catch(() => {})
  copied.value = what
  setTimeout(() => (copied.value = ''), 2500)
}

let wait: ReturnType<typeof setTimeout> | undefined
watch(
  body,
  () => {
    clearTimeout(wait)
    wait = setTimeout(foresee, 300)
  },
  { deep: true },
)
watch(format, () => {
  if (chosen.value && !chosen.value.rates.includes(rate.value)) rate.value = chosen.value.rate
})
watch(mode, (now) => emit('mode', now), { immediate: true })
watch(models, (now) => {
  if (model.value && !now.includes(model.value)) model.value = null
})

async function foresee() {
  if (!said.value.trim()) return void (estimate.value = undefined)
  try {
    estimate.value = await ask(api.POST('/api/v1/estimates', { body: body.value }))
    error.value = undefined
    fault.value = undefined
  } catch (caught) {
    estimate.value = undefined
    // A fault of the script is shown at its line, anything else as a problem.
    const told = caught instanceof CallError ? (caught.problem.errors?.[0] as typeof fault.value) : undefined
    fault.value = mode.value === 'script' && told?.line ? told : undefined
    error.value = fault.value ? undefined : caught
  }
}

async function speak() {
  busy.value = true
  error.value = undefined
  dispatch.value = undefined
  try {
    const response = await fetchRaw('/api/v1/utterances', {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', Accept: '*/*' },
      body: JSON.stringify(body.value),
    })
    const id = response.headers.get('Dispatch-Id') ?? ''
    name.value = /filename="([^"]+)"/.exec(response.headers.get('Content-Disposition') ?? '')?.[1] ?? 'utterance'
    sound.value = await response.blob()
    spoken.value = mode.value === 'script' ? plainText(script.value) : text.value
    dispatch.value = await ask(api.GET('/api/v1/dispatches/{id}', { params: { path: { id } } }))
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = false
  }
}

onMounted(async () => {
  try {
    const [found, plans, own, kinds, all] = await Promise.all([
      ask(api.GET('/api/v1/voices', { params: { query: { limit: 1, facets: true } } })),
      ask(api.GET('/api/v1/routes')),
      // The console speaks for the app of its name.
      ask(api.GET('/api/v1/apps/{name}', { params: { path: { name: 'console' } } })),
      formatChoices(),
      ask(api.GET('/api/v1/engines')),
    ])
    formats.value = kinds
    engines.value = all.items
    languages.value = Object.keys(found.facets?.languages ?? {}).sort()
    routes.value = plans.items.filter((one) => one.work === 'synthesis')
    if (!voice.value) voice.value = own.default_voice ?? routes.value[0]?.name ?? found.items[0]?.id ?? ''
  } catch (caught) {
    error.value = caught
  }
  await foresee()
})
</script>

<template>
  <v-card class="pa-5" tag="section" aria-labelledby="speak-title">
    <div class="head">
      <h2 id="speak-title">Speak</h2>
      <v-btn-toggle v-model="mode" mandatory density="compact" variant="outlined" aria-label="Kind of text">
        <v-btn value="text" size="small" data-test="mode-text">Text</v-btn>
        <v-btn value="script" size="small" data-test="mode-script">Script</v-btn>
      </v-btn-toggle>
    </div>
    <ScriptEditor v-if="mode === 'script'" v-model="script" :fault="fault" :fidelity="estimate?.fidelity ?? []" :engine="estimate?.plan[0]?.engine" />
    <v-textarea v-else v-model="text" label="Text" rows="2" auto-grow data-test="text" @keydown.ctrl.enter="speak" />
    <div class="grid mt-4">
      <VoicePicker v-model="voice" :routes="routes" :language="language" :gender="gender" class="two" @voice="speaker = $event" />
      <v-select v-model="model" :items="models" label="Model" clearable placeholder="default" persistent-placeholder />
      <v-autocomplete v-model="language" :items="languages" label="Language" clearable placeholder="any" persistent-placeholder />
      <v-select v-model="gender" :items="['female', 'male', 'neutral']" label="Gender" clearable placeholder="any" persistent-placeholder />
      <v-select v-model="rate" :items="chosen?.rates ?? []" :disabled="chosen?.preset" label="Sample rate, Hz" />
      <v-select v-model="format" :items="formats" :item-props="(item: FormatChoice) => ({ subtitle: weight(item, rate) })" :hint="chosen && weight(chosen, rate)" persistent-hint label="Format or preset" data-test="format" class="two" />
    </div>
    <div class="go mt-4">
      <v-btn color="primary" variant="flat" size="x-large" :prepend-icon="mdiBullhorn" :loading="busy" :disabled="!said.trim() || !!fault" data-test="speak" @click="speak">Speak</v-btn>
      <div v-if="estimate" class="quiet" data-test="estimate">
        {{ estimate.exact ? 'Will cost' : 'Will cost at most' }} <strong><MoneyAmount :amount="estimate.cost" /></strong> by {{ estimate.plan[0]?.voice ?? estimate.plan[0]?.engine }}<template v-if="estimate.plan.length > 1">, else {{ estimate.plan.slice(1).map((one) => one.engine).join(', ') }}</template>
        <div data-test="foreseen">Will be {{ foreseen }}.</div>
        <div v-for="warning in estimate.warnings" :key="warning" class="text-warning">▲ {{ warning }}</div>
      </div>
    </div>
    <ProblemNote :error="error" />
    <div v-if="sound" class="mt-5">
      <SoundPlayer :source="sound" :name="name" autoplay />
      <FixWord :text="spoken" :voice="voice" :language="language" class="mt-2" />
      <dl v-if="dispatch" class="facts mt-3" data-test="facts">
        <div><dt>Engine</dt><dd>{{ dispatch.engine }}/{{ dispatch.voice }}</dd></div>
        <div><dt>First audio</dt><dd>{{ milliseconds(dispatch.first_audio) }}</dd></div>
        <div><dt>Duration</dt><dd>{{ seconds(dispatch.duration) }}</dd></div>
        <div><dt>Cost</dt><dd><MoneyAmount :amount="dispatch.cost" /></dd></div>
        <div><dt>Record</dt><dd><router-link :to="`/dispatches/${dispatch.id}`">{{ (dispatch.attempts ?? []).length === 1 ? '1 attempt' : `${(dispatch.attempts ?? []).length} attempts` }}</router-link></dd></div>
      </dl>
    </div>
    <div class="copies mt-5">
      <v-btn size="small" :prepend-icon="mdiContentCopy" @click="copy('curl', asCurl)">Copy as curl</v-btn>
      <v-btn size="small" :prepend-icon="mdiContentCopy" @click="copy('command', asCommand)">Copy as command</v-btn>
      <v-btn size="small" :prepend-icon="mdiContentCopy" @click="copy('JSON', JSON.stringify(body, null, 2))">Copy as JSON</v-btn>
      <span role="status" class="quiet">{{ copied ? `Copied as ${copied}` : '' }}</span>
    </div>
  </v-card>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 14px;
}

.two {
  grid-column: span 2;
}

.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-bottom: 12px;
}

.go,
.copies {
  display: flex;
  align-items: center;
  gap: 16px;
  flex-wrap: wrap;
}

.copies {
  gap: 8px;
}

.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 26px;
}

.facts dt {
  font-size: 0.8rem;
  opacity: 0.78;
}

.facts dd {
  font-variant-numeric: tabular-nums;
  font-weight: 700;
}

@media (max-width: 600px) {
  .grid {
    grid-template-columns: repeat(2, minmax(0, 1fr));
  }
}
</style>
