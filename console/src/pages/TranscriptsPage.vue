<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { seconds } from '@/format'
import { useAsync } from '@/useAsync'

const items = ref<Schemas['TranscriptLine'][]>([])
const next = ref<string | null>(null)
const { error, done, run } = useAsync()

const load = (cursor?: string) =>
  run(async () => {
    const list = await ask(api.GET('/api/v1/transcripts', { params: { query: cursor ? { cursor } : {} } }))
    items.value = [...(cursor ? items.value : []), ...list.items]
    next.value = list.next ?? null
  })

onMounted(() => load())
</script>

<template>
  <div class="page">
    <h1>Transcripts</h1>
    <p class="lead quiet">Kept transcripts, to be corrected and exported.</p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading transcripts" />
    <v-table v-if="items.length" class="table" density="comfortable">
      <thead>
        <tr><th scope="col">Transcript</th><th scope="col" class="wide">App</th><th scope="col" class="wide">Engine</th><th scope="col" class="number">Duration</th><th scope="col">Made</th><th scope="col">Kept until</th></tr>
      </thead>
      <tbody>
        <tr v-for="item in items" :key="item.id" data-test="transcript-line">
          <td><router-link :to="`/transcripts/${item.id}`">{{ item.title || item.id.slice(0, 16) }}</router-link><div class="quiet">{{ item.language ?? '' }}</div></td>
          <td class="wide">{{ item.app }}</td>
          <td class="wide">{{ item.engine }}</td>
          <td class="number">{{ seconds(item.duration) }}</td>
          <td><TimeAgo :time="item.created" /></td>
          <td><TimeAgo :time="item.expires" /></td>
        </tr>
      </tbody>
    </v-table>
    <v-btn v-if="next" class="mt-4" @click="load(next)">Show older</v-btn>
    <p v-else-if="done && !items.length">No transcripts are kept. To keep those of an app: <code>dispatcher app change APP --transcript-days 30</code></p>
  </div>
</template>
