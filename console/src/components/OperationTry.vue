<script setup lang="ts">
// Sends one operation of the API with what was typed in, and shows the answer.
import { computed, ref, watch } from 'vue'
import { example, type OpenApi, type Operation } from '@/reference'
import { useSession } from '@/session'

const props = defineProps<{ document: OpenApi; operation: Operation }>()
const session = useSession()
const values = ref<Record<string, string>>({})
const key = ref('')
const kind = ref('')
const body = ref('')
const busy = ref(false)
const answer = ref<{ status: string; headers: string; text?: string; audio?: string }>()

const kinds = computed(() => Object.keys(props.operation.body ?? {}))
const MOST = 20_000

watch(
  () => props.operation,
  () => {
    values.value = {}
    show(undefined)
    kind.value = kinds.value[0] ?? ''
    const schema = props.operation.body?.['application/json']?.schema
    body.value = schema ? JSON.stringify(example(props.document, schema), null, 2) : ''
  },
  { immediate: true },
)

/** JSON with line breaks; any other text as it is. */
function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}

/** Shows an answer; the audio of the one before is let go. */
function show(next: typeof answer.value) {
  if (answer.value?.audio) URL.revokeObjectURL(answer.value.audio)
  answer.value = next
}

const missing = computed(() => props.operation.parameters.filter((one) => one.in === 'path' && !values.value[one.name]).map((one) => one.name))

async function send() {
  busy.value = true
  const given = (place: string) => props.operation.parameters.filter((one) => one.in === place && values.value[one.name])
  const path = props.operation.path.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(values.value[name] ?? ''))
  const query = new URLSearchParams(given('query').map((one) => [one.name, values.value[one.name]!]))
  const headers = new Headers(given('header').map((one) => [one.name, values.value[one.name]!] as [string, string]))
  if (key.value) headers.set('Authorization', `Bearer ${key.value}`)
  if (kind.value && body.value) headers.set('Content-Type', kind.value)
  try {
    const response = await fetch(`${path}${query.size ? `?${query}` : ''}`, {
      method: props.operation.method,
      headers,
      ...(kind.value && body.value ? { body: body.value } : {}),
    })
    const told = [...response.headers].map(([name, value]) => `${name}: ${value}`).join('\n')
    const type = response.headers.get('content-type') ?? ''
    const status = `${response.status} ${response.statusText}`
    if (type.startsWith('audio/')) show({ status, headers: told, audio: URL.createObjectURL(await response.blob()) })
    else {
      const text = await response.text()
      const shown = type.includes('json') ? pretty(text) : text
      show({ status, headers: told, text: shown.length > MOST ? `${shown.slice(0, MOST)}\n…` : shown })
    }
  } catch {
    show({ status: 'No answer', headers: '', text: 'The service does not answer.' })
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="try" @submit.prevent="send">
    <v-text-field v-if="!session.person" v-model="key" type="password" autocomplete="off" label="App key or operator key" hide-details />
    <v-text-field v-for="one in operation.parameters" :key="`${one.in} ${one.name}`" v-model="values[one.name]" :label="`${one.name} (${one.in})`" :required="one.in === 'path'" hide-details />
    <template v-if="kinds.length">
      <v-select v-model="kind" :items="kinds" label="Type of the body" hide-details />
      <v-textarea v-model="body" label="Body" rows="5" auto-grow class="body" hide-details spellcheck="false" />
    </template>
    <v-btn type="submit" color="primary" :loading="busy" :disabled="missing.length > 0" class="start" data-test="send">Send</v-btn>
  </form>
  <div v-if="answer" class="answer" role="status">
    <strong>{{ answer.status }}</strong>
    <pre v-if="answer.headers" class="code quiet">{{ answer.headers }}</pre>
    <audio v-if="answer.audio" :src="answer.audio" controls />
    <pre v-else class="code">{{ answer.text }}</pre>
  </div>
</template>

<style scoped>
.try {
  display: grid;
  gap: 10px;
  max-width: 640px;
}

.start {
  justify-self: start;
}

.body :deep(textarea) {
  font-family: var(--mono);
  font-size: 0.86rem;
}

.answer {
  margin-top: 16px;
}

pre {
  overflow-x: auto;
  max-height: 420px;
  margin: 8px 0;
  padding: 10px 12px;
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
}
</style>
