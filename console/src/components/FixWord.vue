<script setup lang="ts">
// A word that sounds wrong in what was just heard: it goes into a lexicon, and
// the prompts that have it are named, since they sound otherwise from now on.
import { mdiAccountVoice, mdiPlay } from '@mdi/js'
import { computed, reactive, ref } from 'vue'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import { useAsync } from '@/useAsync'
import { distinctWords, withWord } from '@/words'

const props = defineProps<{ text: string; voice?: string | null; language?: string | null }>()
const emit = defineEmits<{ fixed: [] }>()
const shown = ref(false)
const fix = reactive({ word: '', alias: '', lexicon: '', language: '' })
const lexicons = ref<Schemas['LexiconAnswer'][]>([])
const sound = ref<Blob>()
const done = ref<{ lexicon: string; version: number; sets: { name: string; ids: string[] }[] }>()
const { error, busy, run } = useAsync()

const words = computed(() => distinctWords(props.text).slice(0, 80))
const known = computed(() => lexicons.value.find((one) => one.name === fix.lexicon))
const complete = computed(() => fix.word && fix.alias.trim() && fix.lexicon && (known.value || fix.language))

const open = () =>
  run(async () => {
    lexicons.value = (await ask(api.GET('/api/v1/lexicons'))).items.filter((one) => one.always)
    Object.assign(fix, { word: '', alias: '', lexicon: lexicons.value[0]?.name ?? 'names', language: props.language ?? 'en-GB' })
    done.value = undefined
    sound.value = undefined
    shown.value = true
  })

/** The text with the word said so, before anything is kept. */
const listen = () =>
  run(async () => {
    const body = { text: withWord(props.text, fix.word, fix.alias), ...(props.voice ? { voice: props.voice } : {}) }
    const headers = { 'Content-Type': 'application/json', Accept: 'audio/mpeg' }
    sound.value = await (await fetchRaw('/api/v1/utterances', { method: 'POST', headers, body: JSON.stringify(body) })).blob()
  }, 'listen')

/** Prompts with the word whose files are not as their rows any more. */
async function changed() {
  const sets = []
  for (const { name } of (await ask(api.GET('/api/v1/prompt-sets'))).items) {
    const { lines } = await ask(api.GET('/api/v1/prompt-sets/{name}', { params: { path: { name } } }))
    const ids = lines.filter((line) => line.state === 'changed' && `${line.text} ${line.ssml}`.includes(fix.word)).map((line) => line.id)
    if (ids.length) sets.push({ name, ids: [...new Set(ids)] })
  }
  return sets
}

const keep = () =>
  run(async () => {
    const body = { grapheme: fix.word, alias: fix.alias.trim(), ...(known.value ? {} : { language: fix.language }) }
    const kept = await ask(api.POST('/api/v1/lexicons/{name}/words', { params: { path: { name: fix.lexicon } }, body }))
    done.value = { lexicon: kept.name, version: kept.version, sets: await changed() }
    emit('fixed')
  }, 'keep')
</script>

<template>
  <v-btn size="small" variant="text" :prepend-icon="mdiAccountVoice" :disabled="!words.length" data-test="fix-word" @click="open">Fix how a word sounds</v-btn>
  <v-dialog v-model="shown" max-width="560" aria-label="Fix how a word sounds">
    <v-card class="pa-5">
      <h2>Fix how a word sounds</h2>
      <template v-if="!done">
        <p class="quiet">Choose the word, and write what sounds as it should.</p>
        <v-chip-group v-model="fix.word" column class="words" aria-label="Words">
          <v-chip v-for="word in words" :key="word" :value="word" filter size="small" data-test="fix-choice">{{ word }}</v-chip>
        </v-chip-group>
        <v-text-field v-model="fix.alias" label="Sounds like" :placeholder="fix.word" persistent-placeholder data-test="fix-alias" />
        <v-combobox v-model="fix.lexicon" :items="lexicons.map((one) => one.name)" label="Lexicon" class="mt-3" />
        <v-text-field v-if="!known" v-model="fix.language" label="Language of the new lexicon" class="mt-3" />
        <SoundPlayer v-if="sound" :source="sound" name="fix.mp3" autoplay class="mt-3" />
        <ProblemNote :error="error" />
        <div class="actions mt-4">
          <v-btn color="primary" variant="flat" :disabled="!complete" :loading="busy === 'keep'" data-test="fix-save" @click="keep">Add to the lexicon</v-btn>
          <v-btn variant="tonal" :prepend-icon="mdiPlay" :disabled="!fix.word || !fix.alias.trim()" :loading="busy === 'listen'" data-test="fix-listen" @click="listen">Listen</v-btn>
          <v-btn variant="text" @click="shown = false">Cancel</v-btn>
        </div>
      </template>
      <template v-else>
        <p data-test="fix-done">“{{ fix.word }}” is in the lexicon {{ done.lexicon }}, version {{ done.version }}. It sounds so from the next request on.</p>
        <template v-if="done.sets.length">
          <p class="mt-3">Files to make again:</p>
          <ul class="sets" data-test="fix-sets">
            <li v-for="set in done.sets" :key="set.name"><router-link :to="`/jobs/prompts/${set.name}`" @click="shown = false">{{ set.name }}</router-link>: {{ set.ids.join(', ') }}</li>
          </ul>
        </template>
        <p v-else class="quiet mt-3">No prompt with this word has to be made again.</p>
        <div class="actions mt-4"><v-btn color="primary" variant="flat" @click="shown = false">Close</v-btn></div>
      </template>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
}

.words {
  max-height: 30vh;
  overflow-y: auto;
  margin: 8px 0 12px;
}

.sets {
  padding-left: 20px;
}
</style>
