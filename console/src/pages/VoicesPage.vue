<script setup lang="ts">
// The catalogue: searched by the service, shown a window at a time, so that a
// hundred thousand voices scroll like ten.
import { mdiContentCopy, mdiMagnify, mdiPlay, mdiStar, mdiStarOutline, mdiStop } from '@mdi/js'
import { computed, onMounted, ref, shallowReactive, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Voice } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import { decimals } from '@/format'

const PAGE = 100
const route = useRoute()
const router = useRouter()
const from = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : null)
const search = ref(from('search'))
const language = ref(from('language'))
const gender = ref(from('gender'))
const engine = ref(from('engine'))
const style = ref(from('style'))
const sort = ref(from('sort') ?? 'best')
const marked = ref(from('marked') === 'true')
const pages = shallowReactive(new Map<number, Voice[]>())
const wanted = new Set<number>()
const total = ref(0)
const facets = ref<{ languages: Record<string, number>; genders: Record<string, number>; engines: Record<string, number>; styles: Record<string, number> }>()
const loading = ref(true)
const error = ref<unknown>()
const playing = ref('')
const sentence = ref('')
const told = ref('')
let audio: HTMLAudioElement | undefined
let turn = 0
let timer: ReturnType<typeof setTimeout> | undefined

const options = (counts: Record<string, number> | undefined) =>
  Object.entries(counts ?? {}).map(([value, count]) => ({ title: `${value} (${count})`, value }))
const digits = computed(() => decimals([...pages.values()].flat().map((voice) => voice.price)))
const rows = computed(() => Array.from({ length: total.value }, (_, at) => at))

const query = () => ({
  ...(search.value ? { search: search.value } : {}),
  ...(language.value ? { languages: language.value } : {}),
  ...(gender.value ? { gender: gender.value } : {}),
  ...(engine.value ? { engine: engine.value } : {}),
  ...(style.value ? { style: style.value } : {}),
  ...(marked.value ? { favourite: true } : {}),
  sort: sort.value,
})

async function fetchPage(page: number, mine: number) {
  if (wanted.has(page)) return
  wanted.add(page)
  try {
    const first = page === 0
    const list = await ask(api.GET('/api/v1/voices', { params: { query: { ...query(), limit: PAGE, cursor: String(page * PAGE), facets: first } } }))
    if (mine !== turn) return
    pages.set(page, list.items)
    if (first) {
      total.value = list.total
      if (list.facets) facets.value = list.facets
    }
    error.value = undefined
  } catch (caught) {
    if (mine === turn) error.value = caught
  } finally {
    if (mine === turn) loading.value = false
  }
}

/** The voice of a row; asks for its page where it is not there yet. */
function row(at: number): Voice | undefined {
  const page = Math.floor(at / PAGE)
  const there = pages.get(page)
  if (!there) void fetchPage(page, turn)
  return there?.[at % PAGE]
}

function again() {
  turn += 1
  wanted.clear()
  pages.clear()
  void fetchPage(0, turn)
}

watch([language, gender, engine, style, sort, marked], again)
watch(search, () => {
  clearTimeout(timer)
  timer = setTimeout(again, 120)
})
watch([search, language, gender, engine, style, sort, marked], () => {
  const state = { search: search.value, language: language.value, gender: gender.value, engine: engine.value, style: style.value, sort: sort.value === 'best' ? null : sort.value, marked: marked.value ? 'true' : null }
  void router.replace({ query: Object.fromEntries(Object.entries(state).filter(([, value]) => value)) })
})

const path = (voice: Voice) => {
  const slash = voice.id.indexOf('/')
  return { engine: voice.id.slice(0, slash), voice: voice.id.slice(slash + 1) }
}

async function audition(voice: Voice) {
  audio?.pause()
  if (playing.value === voice.id) {
    playing.value = ''
    return
  }
  playing.value = voice.id
  error.value = undefined
  told.value = ''
  try {
    const { engine: one, voice: id } = path(voice)
    const text = sentence.value.trim()
    const said = text ? `?text=${encodeURIComponent(text)}` : ''
    const response = await fetchRaw(`/api/v1/voices/${encodeURIComponent(one)}/${encodeURIComponent(id)}/sample${said}`, {})
    told.value = response.headers.get('Cache-Status')?.includes('hit') ? `${voice.name}: recalled, not charged` : `${voice.name}: spoken and kept`
    audio = new Audio(URL.createObjectURL(await response.blob()))
    audio.onended = () => (playing.value = '')
    await audio.play()
  } catch (caught) {
    playing.value = ''
    error.value = caught
  }
}

async function mark(voice: Voice) {
  const params = { params: { path: path(voice) } }
  const call = voice.favourite ? api.DELETE : api.PUT
  const { response } = await call('/api/v1/voices/{engine}/{voice}/favourite', params)
  if (!response.ok) return
  voice.favourite = !voice.favourite
  for (const [page, list] of pages) if (list.includes(voice)) pages.set(page, [...list])
}

onMounted(again)
</script>

<template>
  <div class="page">
    <h1>Voices</h1>
    <p class="lead quiet">All voices of all engines. Play a voice to audition it in its language.</p>
    <div class="filters">
      <v-text-field v-model="search" data-search label="Search" :prepend-inner-icon="mdiMagnify" clearable autofocus hide-details data-test="search" />
      <v-autocomplete v-model="language" :items="options(facets?.languages)" label="Language" clearable hide-details />
      <v-select v-model="gender" :items="options(facets?.genders)" label="Gender" clearable hide-details />
      <v-select v-model="engine" :items="options(facets?.engines)" label="Engine" clearable hide-details />
      <v-select v-model="style" :items="options(facets?.styles)" label="Style" clearable hide-details />
      <v-select v-model="sort" :items="[{ title: 'best match first', value: 'best' }, { title: 'by name', value: 'name' }, { title: 'by language', value: 'language' }, { title: 'cheapest first', value: 'price' }]" label="Order" hide-details />
    </div>
    <div class="second">
      <v-text-field v-model="sentence" label="Sentence to audition" placeholder="default: a sentence in the voice's own language" persistent-placeholder hide-details maxlength="500" />
      <v-checkbox v-model="marked" label="Favourites only" hide-details />
    </div>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="loading" indeterminate color="primary" class="mt-4" aria-label="Loading voices" />
    <p v-else class="quiet my-3" role="status"><span data-test="total">{{ total.toLocaleString() }} voices</span><template v-if="told"> · {{ told }}</template></p>
    <div v-if="total" class="table" role="table" aria-label="Voices" :aria-rowcount="total">
      <div class="line head" role="row">
        <span role="columnheader"><span class="d-sr-only">Play</span></span><span role="columnheader">Voice</span><span role="columnheader">Languages</span><span role="columnheader" class="wide">Gender</span><span role="columnheader" class="number wide">1,000 characters</span><span role="columnheader">State</span><span role="columnheader"><span class="d-sr-only">Use</span></span>
      </div>
      <v-virtual-scroll :items="rows" :item-height="64" :height="Math.min(total * 64, 560)" tabindex="0" role="rowgroup">
        <template #default="{ item }">
          <div v-for="(voice, at) in [row(item)]" :key="item + at" class="line" role="row" :aria-rowindex="item + 1" data-test="voice-row">
            <template v-if="voice">
              <span role="cell"><v-btn size="small" variant="text" :icon="playing === voice.id ? mdiStop : mdiPlay" :aria-label="`${playing === voice.id ? 'Stop' : 'Play'} ${voice.name}`" :disabled="voice.availability !== 'ready'" color="primary" @click="audition(voice)" /></span>
              <span role="cell" class="cut"><strong>{{ voice.name }}</strong><span class="quiet small cut"><span class="code">{{ voice.id }}</span><template v-if="voice.character"> · {{ voice.character }}</template></span></span>
              <span role="cell" class="cut">{{ voice.languages.join(', ') }}<span v-if="voice.uses.length || voice.styles.length" class="quiet small cut">{{ [...voice.styles, ...voice.uses].join(', ') }}</span></span>
              <span role="cell" class="wide">{{ [voice.gender, voice.age].filter(Boolean).join(', ') || '–' }}</span>
              <span role="cell" class="number wide"><MoneyAmount :amount="voice.price" :digits="digits" /></span>
              <span role="cell" class="cut" :title="voice.reason ?? undefined"><StateMark :state="voice.availability" /><span v-if="voice.reason || voice.stale" class="quiet small cut">{{ voice.reason ?? 'its list of voices is stale' }}</span></span>
              <span role="cell" class="do"><v-btn size="small" variant="text" :icon="voice.favourite ? mdiStar : mdiStarOutline" :aria-label="`${voice.favourite ? 'Remove from favourites:' : 'Add to favourites:'} ${voice.name}`" :aria-pressed="voice.favourite" @click="mark(voice)" /><v-btn size="small" variant="text" :icon="mdiContentCopy" :aria-label="`Use ${voice.name}`" :to="{ path: '/', query: { voice: voice.id } }" /></span>
            </template>
            <span v-else role="cell" class="quiet waiting">…</span>
          </div>
        </template>
      </v-virtual-scroll>
    </div>
    <p v-else-if="!loading && !error" class="mt-6">No voice matches. Clear a filter, or check the <router-link to="/engines">engines</router-link>: absent engines have no voices.</p>
  </div>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: 1.7fr 1.1fr 1fr 1fr 1fr 1.5fr;
  gap: 12px;
}

.second {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 16px;
  margin-top: 12px;
}

.small {
  font-size: 0.86rem;
}

.line {
  display: grid;
  grid-template-columns: 44px minmax(0, 2.2fr) minmax(0, 1.2fr) 104px 150px minmax(0, 1.1fr) 88px;
  gap: 12px;
  align-items: center;
  height: 64px;
  padding: 0 10px;
  border-bottom: 1px solid rgba(var(--v-border-color), 0.14);
}

.head {
  height: 40px;
  /* As wide as the scroll bar below. */
  padding-right: 26px;
  font-size: 0.86rem;
  font-weight: 700;
}

.cut {
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}

.do {
  white-space: nowrap;
}

.waiting {
  grid-column: 2;
}

.table {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  overflow: hidden;
}

.table :deep(.v-virtual-scroll) {
  scrollbar-gutter: stable;
}

.number {
  padding-right: 18px;
}

@media (max-width: 900px) {
  .filters {
    grid-template-columns: 1fr 1fr;
  }

  .line {
    grid-template-columns: 44px minmax(0, 2fr) minmax(0, 1fr) minmax(0, 1fr) 88px;
  }

  .wide {
    display: none;
  }
}

@media (max-width: 520px) {
  .second {
    grid-template-columns: 1fr;
  }

  .line {
    grid-template-columns: 40px minmax(0, 1fr) 88px;
  }

  .line > :nth-child(3),
  .line > :nth-child(6) {
    display: none;
  }
}
</style>
