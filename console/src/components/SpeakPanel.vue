<script setup lang="ts">
import { mdiBullhorn, mdiContentCopy } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, fetchRaw, type Dispatch, type Schemas, type Voice } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import { milliseconds, money, seconds } from '@/format'

/** What each is for; bytes a second at 24 kHz, or at its only rate. */
const formats = [
  { title: 'MP3: web pages, mail', value: 'audio/mpeg', extension: '.mp3', rates: [8000, 16000, 22050, 24000, 44100, 48000], bytes: 6000 },
  { title: 'WAV: editors', value: 'audio/wav', extension: '.wav', rates: [8000, 16000, 22050, 24000, 44100, 48000], bytes: 48000 },
  { title: 'FLAC: archives, lossless', value: 'audio/flac', extension: '.flac', rates: [8000, 16000, 22050, 24000, 44100, 48000], bytes: 28000 },
  { title: 'Ogg Opus: live and small', value: 'audio/ogg;codecs=opus', extension: '.opus', rates: [8000, 16000, 24000, 48000], bytes: 3000 },
  { title: 'WebM Opus: browsers', value: 'audio/webm;codecs=opus', extension: '.webm', rates: [8000, 16000, 24000, 48000], bytes: 3000 },
  { title: 'µ-law: telephone lines', value: 'audio/basic', extension: '.ulaw', rates: [8000], bytes: 8000 },
  { title: 'A-law: telephone lines', value: 'audio/PCMA', extension: '.alaw', rates: [8000], bytes: 8000 },
  { title: 'µ-law in WAV: telephone editors', value: 'audio/vnd.wave;codec=7', extension: '.wav', rates: [8000], bytes: 8000 },
  { title: 'L16: raw, big-endian', value: 'audio/L16', extension: '.l16', rates: [8000, 16000, 24000, 48000], bytes: 48000 },
]

const query = useRoute().query
const text = ref('The 06:15 to Gullsay is delayed by twenty minutes.')
const voice = ref(typeof query['voice'] === 'string' ? query['voice'] : '')
const model = ref<string | null>(null)
const language = ref<string | null>(null)
const gender = ref<string | null>(null)
const format = ref('audio/mpeg')
const rate = ref(24000)
const voices = ref<Voice[]>([])
const routes = ref<Schemas['RouteSchema'][]>([])
const estimate = ref<Schemas['EstimateAnswer']>()
const busy = ref(false)
const error = ref<unknown>()
const sound = ref<Blob>()
const name = ref('')
const dispatch = ref<Dispatch>()
const copied = ref('')

const chosen = computed(() => formats.find((one) => one.value === format.value) ?? formats[0]!)
const languages = computed(() => [...new Set(voices.value.flatMap((one) => one.languages))].sort())
const fitting = computed(() =>
  voices.value.filter((one) => (!language.value || one.languages.includes(language.value)) && (!gender.value || one.gender === gender.value)),
)
const choices = computed(() => [
  ...routes.value.map((one) => ({ title: one.name ?? '', value: one.name ?? '', subtitle: `route: ${one.note ?? ''}` })),
  ...fitting.value.map((one) => ({
    title: one.id,
    value: one.id,
    subtitle: [one.languages.join(', '), one.gender, one.availability === 'ready' ? one.character : one.availability].filter(Boolean).join(' · '),
  })),
])
const models = computed(() => {
  const own = voices.value.find((one) => one.id === voice.value)?.models
  return own ?? [...new Set(voices.value.flatMap((one) => one.models))]
})

const body = computed(() => ({
  text: text.value,
  ...(voice.value ? { voice: voice.value } : {}),
  ...(model.value ? { model: model.value } : {}),
  ...(language.value ? { language: language.value } : {}),
  audio: { type: format.value, rate: rate.value },
}))

const quote = (value: string) => `'${value.replaceAll("'", `'\\''`)}'`
const asCurl = computed(
  () =>
    `curl ${location.origin}/api/v1/utterances \\\n  -H "Authorization: Bearer $DISPATCHER_KEY" \\\n  -H 'Content-Type: application/json' \\\n  -d ${quote(JSON.stringify(body.value))} -o out${extension.value}`,
)
const extension = computed(() => chosen.value.extension)
const asCommand = computed(() => {
  const options = [
    voice.value && `--voice ${voice.value}`,
    model.value && `--model ${model.value}`,
    language.value && `--language ${language.value}`,
    `--format ${quote(format.value)}`,
    `--sample-rate ${rate.value}`,
  ]
  return `dispatcher speak ${quote(text.value)} ${options.filter(Boolean).join(' ')} -o out${extension.value}`
})

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
  if (!chosen.value.rates.includes(rate.value)) rate.value = chosen.value.rates.at(-1)!
})
watch(models, (now) => {
  if (model.value && !now.includes(model.value)) model.value = null
})

async function foresee() {
  estimate.value = undefined
  if (!text.value.trim()) return
  try {
    estimate.value = await ask(api.POST('/api/v1/estimates', { body: body.value }))
    error.value = undefined
  } catch (caught) {
    error.value = caught
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
    dispatch.value = await ask(api.GET('/api/v1/dispatches/{id}', { params: { path: { id } } }))
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = false
  }
}

onMounted(async () => {
  try {
    const [list, plans, own] = await Promise.all([
      ask(api.GET('/api/v1/voices', { params: { query: { limit: 1000 } } })),
      ask(api.GET('/api/v1/routes')),
      // The console speaks for the app of its name.
      ask(api.GET('/api/v1/apps/{name}', { params: { path: { name: 'console' } } })),
    ])
    voices.value = list.items
    routes.value = plans.items.filter((one) => one.work === 'synthesis')
    if (!voice.value) voice.value = own.default_voice ?? routes.value[0]?.name ?? voices.value.find((one) => one.availability === 'ready')?.id ?? ''
  } catch (caught) {
    error.value = caught
  }
  await foresee()
})
</script>

<template>
  <v-card class="pa-5" tag="section" aria-labelledby="speak-title">
    <h2 id="speak-title">Speak</h2>
    <v-textarea v-model="text" label="Text" rows="2" auto-grow data-test="text" @keydown.ctrl.enter="speak" />
    <div class="grid mt-4">
      <v-autocomplete v-model="voice" :items="choices" label="Route or voice" data-test="voice" class="two" :item-props="(item: { subtitle: string }) => ({ subtitle: item.subtitle })" />
      <v-select v-model="model" :items="models" label="Model" clearable placeholder="the engine's first" persistent-placeholder />
      <v-autocomplete v-model="language" :items="languages" label="Language" clearable placeholder="any" persistent-placeholder />
      <v-select v-model="gender" :items="['female', 'male', 'neutral']" label="Gender" clearable placeholder="any" persistent-placeholder />
      <v-select v-model="rate" :items="chosen.rates" label="Rate, Hz" />
      <v-select v-model="format" :items="formats" label="Format" data-test="format" class="two" />
    </div>
    <div class="go mt-4">
      <v-btn color="primary" variant="flat" size="x-large" :prepend-icon="mdiBullhorn" :loading="busy" :disabled="!text.trim()" data-test="speak" @click="speak">Speak</v-btn>
      <div v-if="estimate" class="quiet" data-test="estimate">
        {{ estimate.exact ? 'Will cost' : 'Will cost at most' }} <strong>{{ money(estimate.cost) }}</strong> by {{ estimate.plan[0]?.voice ?? estimate.plan[0]?.engine }}<template v-if="estimate.plan.length > 1">, else {{ estimate.plan.slice(1).map((one) => one.engine).join(', ') }}</template>
        <div v-for="warning in estimate.warnings" :key="warning" class="text-warning">▲ {{ warning }}</div>
      </div>
    </div>
    <ProblemNote :error="error" />
    <div v-if="sound" class="mt-5">
      <SoundPlayer :source="sound" :name="name" autoplay />
      <dl v-if="dispatch" class="facts mt-3" data-test="facts">
        <div><dt>Engine</dt><dd>{{ dispatch.engine }}/{{ dispatch.voice }}</dd></div>
        <div><dt>First audio</dt><dd>{{ milliseconds(dispatch.first_audio) }}</dd></div>
        <div><dt>Sound</dt><dd>{{ seconds(dispatch.audio) }}</dd></div>
        <div><dt>Cost</dt><dd>{{ money(dispatch.cost) }}</dd></div>
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
