<script setup lang="ts">
import { mdiContentCopy, mdiMagnify, mdiPlay, mdiStop } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Voice } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import { money } from '@/format'

const route = useRoute()
const router = useRouter()
const from = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : null)
const search = ref(from('search'))
const language = ref(from('language'))
const gender = ref(from('gender'))
const engine = ref(from('engine'))
const all = ref<Voice[]>([])
const loading = ref(true)
const error = ref<unknown>()
const playing = ref('')
const sentence = ref('')
let audio: HTMLAudioElement | undefined

const samples: Record<string, string> = {
  en: 'The tide is in, and the ferry is on time.',
  pt: 'A maré está cheia e o barco chega à hora.',
  fr: 'La marée est haute et le bac est à l’heure.',
  de: 'Die Flut ist da, und die Fähre ist pünktlich.',
  es: 'Hay marea alta y el barco llega puntual.',
  it: 'La marea è alta e il traghetto è in orario.',
  nl: 'Het is vloed en de veerboot is op tijd.',
  ar: 'المد مرتفع والعبارة في موعدها.',
  ja: '満潮です。船は定刻に着きます。',
}

const count = (pick: (voice: Voice) => string[]) => {
  const counts = new Map<string, number>()
  for (const voice of all.value) for (const value of pick(voice)) counts.set(value, (counts.get(value) ?? 0) + 1)
  return [...counts].sort((a, b) => a[0].localeCompare(b[0])).map(([value, number]) => ({ title: `${value} (${number})`, value }))
}
const languages = computed(() => count((voice) => voice.languages))
const genders = computed(() => count((voice) => (voice.gender ? [voice.gender] : [])))
const engines = computed(() => count((voice) => [voice.engine]))
const shown = computed(() => {
  const words = (search.value ?? '').toLowerCase().split(/\s+/).filter(Boolean)
  return all.value.filter((voice) => {
    const text = `${voice.id} ${voice.name} ${voice.character} ${voice.languages.join(' ')}`.toLowerCase()
    return (
      words.every((word) => text.includes(word)) &&
      (!language.value || voice.languages.includes(language.value)) &&
      (!gender.value || voice.gender === gender.value) &&
      (!engine.value || voice.engine === engine.value)
    )
  })
})

watch([search, language, gender, engine], () => {
  const query = Object.fromEntries(
    Object.entries({ search: search.value, language: language.value, gender: gender.value, engine: engine.value }).filter(([, value]) => value),
  )
  void router.replace({ query })
})

async function audition(voice: Voice) {
  audio?.pause()
  if (playing.value === voice.id) {
    playing.value = ''
    return
  }
  playing.value = voice.id
  error.value = undefined
  try {
    const tag = voice.languages[0] ?? 'en'
    const text = sentence.value.trim() || samples[tag.split('-')[0] ?? 'en'] || samples['en']!
    const response = await fetchRaw('/api/v1/utterances', {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', Accept: 'audio/mpeg' },
      body: JSON.stringify({ text, voice: voice.id }),
    })
    audio = new Audio(URL.createObjectURL(await response.blob()))
    audio.onended = () => (playing.value = '')
    await audio.play()
  } catch (caught) {
    playing.value = ''
    error.value = caught
  }
}

onMounted(async () => {
  try {
    all.value = (await ask(api.GET('/api/v1/voices', { params: { query: { limit: 1000 } } }))).items
  } catch (caught) {
    error.value = caught
  } finally {
    loading.value = false
  }
})
</script>

<template>
  <div class="page">
    <h1>Voices</h1>
    <p class="lead quiet">Every voice of every engine, in one list. Play one to hear it in its own language.</p>
    <div class="filters">
      <v-text-field v-model="search" data-search label="Search" :prepend-inner-icon="mdiMagnify" clearable autofocus data-test="search" />
      <v-autocomplete v-model="language" :items="languages" label="Language" clearable />
      <v-select v-model="gender" :items="genders" label="Gender" clearable />
      <v-select v-model="engine" :items="engines" label="Engine" clearable />
    </div>
    <v-text-field v-model="sentence" class="mt-3" label="Sentence to audition" placeholder="a sample in the voice's own language" persistent-placeholder />
    <ProblemNote :error="error" />
    <v-progress-linear v-if="loading" indeterminate color="primary" class="mt-4" aria-label="Loading voices" />
    <p v-else class="quiet my-3" role="status">{{ shown.length }} of {{ all.length }} voices</p>
    <v-table v-if="shown.length" class="table">
      <thead>
        <tr><th scope="col"><span class="d-sr-only">Play</span></th><th scope="col">Voice</th><th scope="col">Languages</th><th scope="col">Gender</th><th scope="col" class="number">1,000 characters</th><th scope="col">State</th><th scope="col"><span class="d-sr-only">Use</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="voice in shown" :key="voice.id" data-test="voice-row">
          <td><v-btn size="small" :icon="playing === voice.id ? mdiStop : mdiPlay" :aria-label="`${playing === voice.id ? 'Stop' : 'Play'} ${voice.name}`" :disabled="voice.availability !== 'ready'" color="primary" @click="audition(voice)" /></td>
          <td><strong>{{ voice.name }}</strong><div class="quiet small"><span class="code">{{ voice.id }}</span><template v-if="voice.character"> · {{ voice.character }}</template></div></td>
          <td>{{ voice.languages.join(', ') }}</td>
          <td>{{ voice.gender ?? '–' }}</td>
          <td class="number">{{ money(voice.price) }}</td>
          <td><StateMark :state="voice.availability" /><div v-if="voice.reason" class="quiet small reason">{{ voice.reason }}</div></td>
          <td><v-btn size="small" variant="text" :to="{ path: '/', query: { voice: voice.id } }" :prepend-icon="mdiContentCopy">Use</v-btn></td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="!loading" class="mt-6">No voice fits. Clear a filter, or look at the engines on the <router-link to="/overview">overview</router-link>: an absent one has no voices to offer.</p>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: 2fr 1.2fr 1fr 1fr;
  gap: 12px;
}

.small {
  font-size: 0.86rem;
}

.reason {
  max-width: 30ch;
}

.table {
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
}

@media (max-width: 760px) {
  .filters {
    grid-template-columns: 1fr 1fr;
  }
}
</style>
