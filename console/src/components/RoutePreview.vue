<script setup lang="ts">
// What each leg of a route would do with a sample request; nothing is sent.
import { ref } from 'vue'
import { api, ask, type Schemas } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { milliseconds } from '@/format'
import { useAsync } from '@/useAsync'

const props = defineProps<{ name: string; work: string; apps: string[] }>()
const text = ref('')
const language = ref('')
const app = ref<string | null>(null)
const seconds = ref(60)
const preview = ref<Schemas['RoutePreviewAnswer']>()
const { error, busy, run } = useAsync()

const look = () =>
  run(async () => {
    const common = { language: language.value || undefined, app: app.value || undefined }
    const body = props.work === 'recognition' ? { ...common, seconds: Number(seconds.value) } : { ...common, text: text.value || undefined }
    preview.value = await ask(api.POST('/api/v1/routes/{name}/try', { params: { path: { name: props.name } }, body }))
  })
</script>

<template>
  <form class="asked" @submit.prevent="look">
    <v-text-field v-if="work === 'synthesis'" v-model="text" label="Text (default: a sentence)" hide-details data-test="try-text" class="text" />
    <v-text-field v-else v-model="seconds" type="number" min="0" label="Seconds of audio" hide-details />
    <v-text-field v-model="language" label="Language" placeholder="en-GB" hide-details />
    <v-select v-model="app" :items="apps" label="App" clearable hide-details />
    <v-btn type="submit" color="primary" variant="tonal" class="justify-self-start" :loading="busy === 'load'" data-test="try">Try</v-btn>
  </form>
  <ProblemNote :error="error" />
  <v-table v-if="preview" class="table mt-3" density="comfortable" data-test="preview">
    <thead><tr><th scope="col">Tried</th><th scope="col">Leg</th><th scope="col">Engine</th><th scope="col" class="wide">Model</th><th scope="col" class="number">Cost</th><th scope="col" class="number wide">Usual first audio</th><th scope="col" class="wide">Fidelity</th></tr></thead>
    <tbody>
      <tr v-for="leg in preview.legs" :key="leg.leg" :class="{ quiet: !leg.place }">
        <td>{{ leg.place ? `${leg.place}.` : 'no' }}</td>
        <td>{{ leg.leg }}</td>
        <td>{{ leg.voice ?? leg.engine }}<div v-if="leg.passed_over" class="why">{{ leg.passed_over }}</div><div v-else-if="leg.in_place_of" class="why">in place of {{ leg.in_place_of }}</div></td>
        <td class="wide">{{ leg.model ?? '–' }}</td>
        <td class="number"><MoneyAmount v-if="leg.cost" :amount="leg.cost" /><template v-else>–</template></td>
        <td class="number wide">{{ milliseconds(leg.usual_first) }}</td>
        <td class="wide">{{ leg.fidelity ?? '–' }}</td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.asked {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(140px, 1fr));
  gap: 12px;
  align-items: center;
}

.text {
  grid-column: span 2;
}

.why {
  font-size: 0.86rem;
}

@media (max-width: 600px) {
  .text {
    grid-column: auto;
  }
}
</style>
