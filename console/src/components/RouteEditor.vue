<script setup lang="ts">
// A route as JSON: a new one, or the next version of one that is there.
import { ref } from 'vue'
import { api, ask } from '@/api/client'
import CodeArea from '@/components/CodeArea.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { written, type Route } from '@/routing'
import { useAsync } from '@/useAsync'

const props = defineProps<{ route?: Route }>()
const emit = defineEmits<{ kept: [string]; left: [] }>()
const blank: Route = { work: 'synthesis', note: '', order: 'listed', legs: [{ engine: 'espeak-ng', deadline: 3000 }] }
const name = ref(props.route?.name ?? '')
const source = ref(written(props.route ?? blank))
const { error, busy, run } = useAsync()
const plain = (text: string) => text.split('\n').map((line) => [{ text: line, kind: '' as const }])

const keep = () =>
  run(async () => {
    let body: Route
    try {
      body = JSON.parse(source.value) as Route
    } catch (fault) {
      throw new Error(`This is not JSON: ${(fault as Error).message}`, { cause: fault })
    }
    await ask(api.PUT('/api/v1/routes/{name}', { params: { path: { name: name.value } }, body }))
    emit('kept', name.value)
  }, 'keep')
</script>

<template>
  <v-text-field v-if="!route" v-model="name" label="Name of the route" hint="1 to 40 small letters, digits and hyphens" persistent-hint class="mb-3" data-test="route-name" />
  <CodeArea v-model="source" label="Route in JSON" test="route-json" :height="320" :colour="plain" />
  <ProblemNote :error="error" />
  <div class="actions">
    <v-btn color="primary" variant="flat" :loading="busy === 'keep'" :disabled="!name" data-test="keep-route" @click="keep">{{ route ? 'Save as the next version' : 'Add' }}</v-btn>
    <v-btn variant="text" @click="emit('left')">Cancel</v-btn>
  </div>
</template>

<style scoped>
.actions {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
</style>
