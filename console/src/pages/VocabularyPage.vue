<script setup lang="ts">
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { api, ask, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import { useAsync } from '@/useAsync'
import { changeText, commandText } from '@/words'

type Entry = Schemas['VocabularyEntry']

const apps = ref<string[]>([])
const app = ref('')
const words = ref<Entry[]>([])
const version = ref(0)
const phrases = ref<Schemas['PhraseEntry'][]>([])
const masks = ref<Schemas['MaskEntry'][]>([])
const form = reactive({ shown: false, grapheme: '', alias: '', phoneme: '', written: '' })
const sentence = ref('')
const tried = ref<Schemas['RevisionAnswer']>()
const { error, busy, done, run } = useAsync()

const query = computed(() => ({ params: { query: { app: app.value } } }))

onMounted(() =>
  run(async () => {
    apps.value = (await ask(api.GET('/api/v1/apps'))).items.map((one) => one.name)
    app.value = apps.value.find((one) => one !== 'console') ?? apps.value[0] ?? ''
  }),
)

const load = () =>
  run(async () => {
    const [vocabulary, table, rules] = await Promise.all([
      ask(api.GET('/api/v1/vocabulary', query.value)),
      ask(api.GET('/api/v1/phrases', query.value)),
      ask(api.GET('/api/v1/masks', query.value)),
    ])
    show(vocabulary)
    phrases.value = table.phrases
    masks.value = rules.rules
    tried.value = undefined
  })

watch(app, load)

function show(vocabulary: Schemas['VocabularyAnswer']) {
  words.value = vocabulary.words
  version.value = vocabulary.version
}

function edit(word?: Entry) {
  const { grapheme = [], alias = [], phoneme = [], written = '' } = word ?? {}
  Object.assign(form, { shown: true, grapheme: grapheme.join(', '), alias: alias.join(', '), phoneme: phoneme.join(', '), written: written ?? '' })
}

const listed = (text: string) => text.split(',').map((one) => one.trim()).filter(Boolean)

const keep = () =>
  run(async () => {
    const body = { grapheme: listed(form.grapheme), alias: listed(form.alias), phoneme: listed(form.phoneme), written: form.written || null }
    show(await ask(api.POST('/api/v1/vocabulary/words', { ...query.value, body })))
    form.shown = false
  }, 'keep')

const remove = (word: Entry) =>
  run(async () => {
    show(await ask(api.PUT('/api/v1/vocabulary', { ...query.value, body: { words: words.value.filter((one) => one !== word) } })))
  }, word.grapheme[0])

const attempt = () =>
  run(async () => {
    tried.value = await ask(api.POST('/api/v1/vocabulary/try', { ...query.value, body: { text: sentence.value } }))
  }, 'try')
</script>

<template>
  <div class="page">
    <h1>Vocabulary</h1>
    <p class="lead quiet">Names and terms that recognisers do not know. Words that sound like them are corrected in every transcript, and each change is reported.</p>
    <v-select v-model="app" :items="apps" label="App" hide-details class="app" data-test="app" />
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading the vocabulary" />
    <template v-else>
      <form v-if="form.shown" class="form mt-4" data-test="word-form" @submit.prevent="keep">
        <v-text-field v-model="form.grapheme" label="Spellings, separated by commas" autofocus required data-test="grapheme" />
        <v-text-field v-model="form.alias" label="Heard as, separated by commas" placeholder="scare oh" persistent-placeholder data-test="alias" />
        <v-text-field v-model="form.phoneme" label="Pronunciation in the International Phonetic Alphabet" placeholder="ɒnˈdiːnə" persistent-placeholder />
        <v-text-field v-model="form.written" label="Spelling in transcripts (default: the first spelling)" />
        <div class="actions"><v-btn type="submit" color="primary" variant="flat" :loading="busy === 'keep'" data-test="keep-word">Keep</v-btn><v-btn variant="text" @click="form.shown = false">Cancel</v-btn></div>
      </form>
      <template v-else>
        <v-table v-if="words.length" class="table mt-4" density="comfortable">
          <thead><tr><th scope="col">Word</th><th scope="col">Heard as</th><th scope="col">Pronunciation</th><th scope="col" /></tr></thead>
          <tbody>
            <tr v-for="word in words" :key="word.grapheme[0]" data-test="word">
              <td>{{ word.grapheme.join(', ') }}<div v-if="word.written" class="quiet">written {{ word.written }}</div></td>
              <td>{{ word.alias?.join(', ') }}</td>
              <td>{{ word.phoneme?.join(', ') }}</td>
              <td class="text-right"><v-btn size="small" variant="text" @click="edit(word)">Change</v-btn><v-btn size="small" variant="text" color="error" :loading="busy === word.grapheme[0]" @click="remove(word)">Remove</v-btn></td>
            </tr>
          </tbody>
        </v-table>
        <p v-else class="mt-4">No words yet. Add the names of people, places and products that callers say.</p>
        <div class="actions mt-3"><v-btn variant="tonal" data-test="new-word" @click="edit()">New word</v-btn><span v-if="version" class="quiet">version {{ version }}</span></div>
      </template>
      <h2 class="mt-8">Try</h2>
      <form class="try" @submit.prevent="attempt">
        <v-text-field v-model="sentence" label="A sentence as an engine might hear it" placeholder="the boat to scare oh is late" persistent-placeholder hide-details data-test="sentence" />
        <v-btn type="submit" variant="tonal" :disabled="!sentence" :loading="busy === 'try'" data-test="try">Try</v-btn>
      </form>
      <div v-if="tried" class="mt-3" role="status" data-test="tried">
        <p><strong>{{ tried.text }}</strong></p>
        <p v-for="(change, index) in tried.changes" :key="index" class="quiet">{{ changeText(change) }}</p>
        <p v-if="tried.command">Command <strong>{{ commandText(tried.command) }}</strong></p>
        <p v-if="!tried.changes.length && !tried.command" class="quiet">Nothing is changed.</p>
      </div>
      <h2 class="mt-8">Phrases</h2>
      <v-table v-if="phrases.length" class="table" density="comfortable">
        <thead><tr><th scope="col">Phrase</th><th scope="col">Command</th><th scope="col">Slots</th></tr></thead>
        <tbody>
          <tr v-for="(phrase, index) in phrases" :key="index"><td>{{ phrase.phrase }}</td><td>{{ phrase.command }}</td><td><div v-for="(values, slot) in phrase.slots" :key="slot">{{ slot }}: {{ values.join(', ') }}</div></td></tr>
        </tbody>
      </v-table>
      <p v-else>No phrases yet. Set them: <code>dispatcher phrases set FILE --app {{ app }}</code></p>
      <h2 class="mt-8">Masks</h2>
      <v-table v-if="masks.length" class="table" density="comfortable">
        <thead><tr><th scope="col">Mask</th><th scope="col">What is masked</th></tr></thead>
        <tbody>
          <tr v-for="mask in masks" :key="mask.name"><td>[{{ mask.name }}]</td><td>{{ mask.digits ? `numbers of ${mask.digits[0]} to ${mask.digits[1]} digits` : (mask.pattern ?? 'built in') }}</td></tr>
        </tbody>
      </v-table>
      <p v-else>Nothing is masked. Set mask rules: <code>dispatcher masks set FILE --app {{ app }}</code></p>
    </template>
  </div>
</template>

<style scoped>
.app {
  max-width: 320px;
}

.form {
  max-width: 620px;
}

.actions,
.try {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}

.try > .v-input {
  flex: 1 1 320px;
}
</style>
