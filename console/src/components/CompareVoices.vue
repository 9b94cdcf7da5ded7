<script setup lang="ts">
// The same text by several voices, and pairs of them rated without their names.
import { mdiPlay, mdiStop } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Schemas } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { drawPair, scores, verdict, type Pair } from '@/comparison'
import { decimals } from '@/format'
import { useSession } from '@/session'
import { useAsync } from '@/useAsync'

const route = useRoute()
const router = useRouter()
const session = useSession()
const list = ref<Schemas['VoiceComparisonSummary'][]>([])
const voices = ref<string[]>([])
const chosen = ref<string[]>([])
const text = ref('The ferry to Gullsay leaves from quay two at a quarter past six.')
const current = ref<Schemas['VoiceComparison']>()
const pair = ref<Pair>()
const heard = ref(new Set<number>())
const playing = ref(0)
const named = ref(false)
const { error, busy, run } = useAsync()
let sound: HTMLAudioElement | undefined

const name = (number: number) => current.value?.voices.find((voice) => voice.number === number)?.voice ?? String(number)
const digits = computed(() => decimals((current.value?.voices ?? []).map((voice) => voice.cost)))
const both = computed(() => pair.value !== undefined && heard.value.has(pair.value.first) && heard.value.has(pair.value.second))

const loadList = () =>
  run(async () => {
    const [all, known] = await Promise.all([ask(api.GET('/api/v1/comparisons')), ask(api.GET('/api/v1/voices', { params: { query: { limit: 500 } } }))])
    list.value = all.items
    voices.value = known.items.filter((voice) => voice.availability === 'ready').map((voice) => voice.id)
  })

const open = (id: string) =>
  run(async () => {
    current.value = await ask(api.GET('/api/v1/comparisons/{id}', { params: { path: { id } } }))
    named.value = false
    next()
  })

function next() {
  stop()
  heard.value = new Set()
  pair.value = current.value && drawPair(current.value.voices.filter((voice) => voice.audio).map((voice) => voice.number), Math.random)
}

const compare = () =>
  run(async () => {
    const made = await ask(api.POST('/api/v1/comparisons', { body: { text: text.value, voices: chosen.value, language: null } }))
    await router.replace({ query: { id: made.id } })
    await loadList()
  }, 'compare')

const rate = (score: number) =>
  run(async () => {
    if (!current.value || !pair.value) return
    const path = { id: current.value.id }
    current.value = await ask(api.POST('/api/v1/comparisons/{id}/ratings', { params: { path }, body: { ...pair.value, score } }))
    next()
  }, 'rate')

function stop() {
  sound?.pause()
  playing.value = 0
}

function play(number: number) {
  const path = current.value?.voices.find((voice) => voice.number === number)?.audio
  if (playing.value === number || !path) return stop()
  stop()
  sound = new Audio(path)
  playing.value = number
  sound.onended = () => {
    heard.value = new Set([...heard.value, number])
    playing.value = 0
  }
  sound.onerror = stop
  void sound.play().catch(stop)
}

watch(() => route.query['id'], (id) => (typeof id === 'string' && id ? void open(id) : (current.value = undefined)))
onMounted(async () => {
  await loadList()
  if (typeof route.query['id'] === 'string' && route.query['id']) await open(route.query['id'])
})
onBeforeUnmount(stop)
</script>

<template>
  <section>
    <p class="lead quiet mt-4">One text by several voices: cost, latency and loudness side by side, and rated by ear without the names.</p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="busy === 'compare'" indeterminate color="primary" aria-label="The voices speak" />
    <form v-if="!session.readsOnly" class="compare-form" @submit.prevent="compare">
      <v-textarea v-model="text" label="Text" rows="2" auto-grow maxlength="500" hide-details data-test="compare-text" />
      <v-autocomplete v-model="chosen" :items="voices" multiple chips closable-chips label="Voices, 2 to 6" hide-details data-test="compare-voices" />
      <v-btn type="submit" color="primary" variant="flat" :disabled="chosen.length < 2 || chosen.length > 6 || !text.trim()" :loading="busy === 'compare'" data-test="compare">Compare</v-btn>
    </form>
    <template v-if="current">
      <h2>“{{ current.text }}”</h2>
      <section v-if="pair && !session.readsOnly" class="rating" aria-label="Rating">
        <div class="pair">
          <v-btn v-for="(number, at) in [pair.first, pair.second]" :key="number" variant="tonal" :prepend-icon="playing === number ? mdiStop : mdiPlay" :data-test="`play-${at}`" @click="play(number)">{{ at ? 'Second' : 'First' }}<span v-if="heard.has(number)" class="ml-1" aria-label="heard">✓</span></v-btn>
        </div>
        <p :id="`question`" class="quiet">{{ both ? 'How does the second sound, compared to the first?' : 'Listen to both to their ends, then rate the second against the first.' }}</p>
        <div class="scores" role="group" aria-labelledby="question">
          <v-btn v-for="score in scores" :key="score.value" variant="outlined" size="small" :disabled="!both" :data-test="`score-${score.value}`" @click="rate(score.value)">{{ score.title }}</v-btn>
        </div>
        <p class="quiet">{{ current.ratings }} {{ current.ratings === 1 ? 'rating' : 'ratings' }} so far. <v-btn variant="text" size="small" data-test="skip" @click="next">Another pair</v-btn> <v-btn variant="text" size="small" data-test="names" @click="named = !named">{{ named ? 'Hide' : 'Show' }} names and results</v-btn></p>
      </section>
      <template v-if="named || session.readsOnly">
        <v-table class="table" density="comfortable">
          <thead><tr><th scope="col">Voice</th><th scope="col" class="number">Cost</th><th scope="col" class="number">First audio</th><th scope="col" class="number wide">Total</th><th scope="col" class="number wide">Loudness</th><th scope="col" class="number wide">Duration</th></tr></thead>
          <tbody>
            <tr v-for="voice in current.voices" :key="voice.number" data-test="compared-voice">
              <td><router-link v-if="voice.dispatch" :to="`/dispatches/${voice.dispatch}`">{{ voice.voice }}</router-link><template v-else>{{ voice.voice }}</template><div v-if="voice.fault" class="small">▲ {{ voice.fault }}</div></td>
              <td class="number"><MoneyAmount :amount="voice.cost" :digits="digits" /></td>
              <td class="number">{{ voice.first == null ? '–' : `${Math.round(voice.first)} ms` }}</td>
              <td class="number wide">{{ voice.total == null ? '–' : `${Math.round(voice.total)} ms` }}</td>
              <td class="number wide">{{ voice.loudness == null ? '–' : `${voice.loudness} LUFS` }}</td>
              <td class="number wide">{{ voice.duration.toFixed(1) }} s</td>
            </tr>
          </tbody>
        </v-table>
        <ul v-if="current.preferences.length" class="boxes preferences">
          <li v-for="one in current.preferences" :key="`${one.one}-${one.other}`" data-test="preference">
            <strong>{{ verdict(one, name) }}</strong>
            <span class="quiet">{{ name(one.other) }} against {{ name(one.one) }}: {{ one.mean > 0 ? '+' : '' }}{{ one.mean }}<template v-if="one.interval != null"> ± {{ one.interval }}</template> in {{ one.count }} ratings<template v-if="one.price_ratio != null">; at {{ one.price_ratio }} times the price</template></span>
          </li>
        </ul>
        <p><a :href="`/api/v1/comparisons/${current.id}/report`" download data-test="report">Save the report</a>: one HTML file with the audio.</p>
      </template>
    </template>
    <template v-if="list.length">
      <h2>Comparisons</h2>
      <ul class="boxes">
        <li v-for="one in list" :key="one.id"><router-link :to="{ path: '/compare', query: { id: one.id } }">{{ one.text }}</router-link><span class="quiet small">{{ one.app }}, <TimeAgo :time="one.created" /></span></li>
      </ul>
    </template>
    <p v-else class="quiet">No comparisons yet.</p>
  </section>
</template>

<style scoped>
.rating {
  display: grid;
  gap: 10px;
}

.pair,
.scores {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
}

.preferences > li {
  display: grid;
  gap: 4px;
}

.small {
  font-size: 0.86rem;
}
</style>
