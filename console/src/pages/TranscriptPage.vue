<script setup lang="ts">
import { mdiDownload, mdiFileMusicOutline } from '@mdi/js'
import { computed, onMounted, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, fetchRaw, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import SoundPlayer from '@/components/SoundPlayer.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { seconds } from '@/format'
import { useAsync } from '@/useAsync'
import { changeText, wordAt } from '@/words'

const route = useRoute()
const router = useRouter()
const id = computed(() => String(route.params['id']))
const kept = ref<Schemas['KeptTranscriptAnswer']>()
const text = ref('')
const audio = ref<File>()
const now = ref(-1)
const player = ref<InstanceType<typeof SoundPlayer>>()
const picker = ref<HTMLInputElement>()
const deleting = ref(false)
const fix = reactive({ shown: false, heard: '', written: '' })
const told = ref('')
const { error, busy, run } = useAsync()

const current = computed(() => wordAt(kept.value?.words ?? [], now.value))
const newest = computed(() => kept.value?.versions[0]?.version === kept.value?.version)
const forms = [
  { title: 'Text', type: 'text/plain', end: 'txt' },
  { title: 'WebVTT', type: 'text/vtt', end: 'vtt' },
  { title: 'SubRip', type: 'application/x-subrip', end: 'srt' },
  { title: 'CSV', type: 'text/csv', end: 'csv' },
  { title: 'CTM', type: 'text/x-ctm', end: 'ctm' },
  { title: 'RTTM', type: 'text/x-rttm', end: 'rttm' },
  { title: 'JSON', type: 'application/json', end: 'json' },
]

function show(answer: Schemas['KeptTranscriptAnswer']) {
  kept.value = answer
  text.value = answer.text
}

const load = (version?: number) =>
  run(async () => show(await ask(api.GET('/api/v1/transcripts/{id}', { params: { path: { id: id.value }, query: version ? { version } : {} } }))))

const save = () =>
  run(async () => {
    const body = { text: text.value, version: kept.value!.version }
    show(await ask(api.PUT('/api/v1/transcripts/{id}', { params: { path: { id: id.value } }, body })))
    told.value = `Version ${kept.value!.version} is kept.`
  }, 'save')

const remove = () =>
  run(async () => {
    await fetchRaw(`/api/v1/transcripts/${encodeURIComponent(id.value)}`, { method: 'DELETE' })
    await router.push('/transcripts')
  }, 'delete')

const exportAs = (form: (typeof forms)[number]) =>
  run(async () => {
    const version = kept.value!.version
    const answer = await fetchRaw(`/api/v1/transcripts/${encodeURIComponent(id.value)}?version=${version}`, { headers: { Accept: form.type } })
    const link = document.createElement('a')
    link.href = URL.createObjectURL(await answer.blob())
    link.download = `${kept.value!.title || kept.value!.id.slice(0, 16)}.${form.end}`
    link.click()
    URL.revokeObjectURL(link.href)
  }, form.end)

function choose(index: number) {
  const word = kept.value!.words[index]!
  player.value?.seek(word.start ?? 0)
  const bare = word.text.replace(/^[^\p{L}\p{N}]+|[^\p{L}\p{N}]+$/gu, '')
  Object.assign(fix, { heard: bare, written: bare })
}

/** The word is written so here, and in every later transcript of the app. */
const fixWord = () =>
  run(async () => {
    const { heard, written } = fix
    const body = { grapheme: [written], alias: heard.toLowerCase() === written.toLowerCase() ? [] : [heard], phoneme: [] }
    const known = (await ask(api.GET('/api/v1/vocabulary', { params: { query: { app: kept.value!.app } } }))).words.find((one) => one.grapheme[0] === written)
    if (known) Object.assign(body, { ...known, alias: [...new Set([...known.alias!, ...body.alias])] })
    const rules = await ask(api.POST('/api/v1/vocabulary/words', { params: { query: { app: kept.value!.app } }, body }))
    text.value = text.value.replaceAll(heard, written)
    told.value = `“${written}” is in the vocabulary of ${rules.app}, version ${rules.version}. Save to keep the text.`
    fix.shown = false
  }, 'fix')

onMounted(() => load())
</script>

<template>
  <div class="page">
    <p><router-link to="/transcripts">Transcripts</router-link></p>
    <h1>{{ kept?.title || 'Transcript' }}</h1>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!kept && !error" indeterminate color="primary" aria-label="Loading the transcript" />
    <template v-if="kept">
      <p class="lead quiet" data-test="transcript-facts">{{ kept.engine }} · {{ seconds(kept.duration) }} of audio · {{ kept.language ?? 'language not known' }} · app {{ kept.app }} · made <TimeAgo :time="kept.created" />, expires <TimeAgo :time="kept.expires" /></p>
      <div class="actions">
        <input ref="picker" type="file" accept="audio/*,.opus,.webm,.m4a,.mp4,.flac" class="d-none" data-test="recording" @change="audio = picker?.files?.[0]" />
        <v-btn variant="tonal" :prepend-icon="mdiFileMusicOutline" @click="picker?.click()">{{ audio ? 'Another recording' : 'Choose the recording' }}</v-btn>
        <span v-if="!audio" class="quiet">The recording is not kept; choose the file to follow its words.</span>
      </div>
      <SoundPlayer v-if="audio" ref="player" :source="audio" :name="audio.name" class="mt-3" @time="now = $event" />
      <p class="words" :lang="kept.language ?? undefined" dir="auto" data-test="words">
        <button v-for="(word, index) in kept.words" :key="index" type="button" class="word" :class="{ now: index === current, unsure: word.confidence != null && word.confidence < 0.6 }" :title="`${seconds(word.start)} to ${seconds(word.end)}${word.confidence == null ? '' : `, ${Math.round(word.confidence * 100)} % confidence`}`" @click="choose(index)">{{ word.text }}</button>
        <template v-if="!kept.words.length">{{ kept.text || 'No words were recognised.' }}</template>
      </p>
      <p v-if="fix.heard" class="actions"><v-btn size="small" variant="text" data-test="fix" @click="fix.shown = true">Fix “{{ fix.heard }}” in every transcript</v-btn></p>
      <v-textarea v-model="text" label="Text" auto-grow rows="4" max-rows="18" :readonly="!newest" dir="auto" hide-details class="mt-3" data-test="text" />
      <div class="actions mt-3">
        <v-btn color="primary" variant="flat" :disabled="text === kept.text || !newest" :loading="busy === 'save'" data-test="save" @click="save">Save as version {{ (kept.versions[0]?.version ?? 1) + 1 }}</v-btn>
        <v-btn variant="text" :disabled="text === kept.text" @click="text = kept.text">Undo</v-btn>
        <v-btn variant="text" color="error" @click="deleting = true">Remove</v-btn>
        <span role="status" class="text-success" data-test="told">{{ told }}</span>
      </div>
      <h2 class="mt-6">Export</h2>
      <div class="actions">
        <v-btn v-for="form in forms" :key="form.end" size="small" variant="tonal" :prepend-icon="mdiDownload" :loading="busy === form.end" @click="exportAs(form)">{{ form.title }}</v-btn>
      </div>
      <template v-if="kept.changes.length">
        <h2 class="mt-6">Changes after recognition</h2>
        <ul class="changes">
          <li v-for="(change, index) in kept.changes" :key="index">{{ changeText(change) }}<span v-if="change.start != null" class="quiet"> at {{ seconds(change.start) }}</span></li>
        </ul>
      </template>
      <h2 class="mt-6">Versions</h2>
      <v-table class="table" density="comfortable">
        <thead><tr><th scope="col">Version</th><th scope="col">By</th><th scope="col">Made</th><th scope="col" /></tr></thead>
        <tbody>
          <tr v-for="one in kept.versions" :key="one.version" data-test="version">
            <td class="number">{{ one.version }}</td>
            <td>{{ one.by }}</td>
            <td><TimeAgo :time="one.at" /></td>
            <td class="text-right"><v-btn v-if="one.version !== kept.version" size="small" variant="text" @click="load(one.version)">Show</v-btn><span v-else class="quiet">shown</span></td>
          </tr>
        </tbody>
      </v-table>
    </template>
    <v-dialog v-model="fix.shown" max-width="460">
      <v-card class="pa-5">
        <h2>Fix a word</h2>
        <p class="quiet">It goes into the vocabulary of {{ kept?.app }}.</p>
        <v-text-field v-model="fix.heard" label="Heard" class="mt-3" />
        <v-text-field v-model="fix.written" label="Correct word" autofocus data-test="fix-written" />
        <div class="actions"><v-btn color="primary" variant="flat" :loading="busy === 'fix'" :disabled="!fix.written" data-test="fix-keep" @click="fixWord">Add to the vocabulary</v-btn><v-btn variant="text" @click="fix.shown = false">Cancel</v-btn></div>
      </v-card>
    </v-dialog>
    <v-dialog v-model="deleting" max-width="460">
      <v-card class="pa-5">
        <p>Remove this transcript with all {{ kept?.versions.length }} versions?</p>
        <div class="actions"><v-btn color="error" variant="flat" :loading="busy === 'delete'" @click="remove">Remove</v-btn><v-btn variant="text" @click="deleting = false">Keep</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
}

.words {
  margin-top: 16px;
  line-height: 1.9;
  font-size: 1.1rem;
  max-height: 40vh;
  overflow-y: auto;
}

.word {
  padding: 0 3px;
}

.word.unsure {
  text-decoration: underline dotted rgb(var(--v-theme-warning));
}

.changes {
  padding-left: 20px;
}
</style>
