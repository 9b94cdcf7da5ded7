<script setup lang="ts">
// A sheet, with its errors at the line; or a pasted command, drafted.
import { onMounted, ref, watch } from 'vue'
import { api, ask, CallError, fetchRaw } from '@/api/client'
import CodeArea from '@/components/CodeArea.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { ofToml } from '@/colouring'
import { useAsync } from '@/useAsync'

/** `inForce` is the address of the engine where the host overrides that of the sheet. */
const props = defineProps<{ engine?: string; inForce?: string | null }>()
const emit = defineEmits<{ saved: [name: string] }>()

const source = ref('')
const command = ref('')
const tab = ref(props.engine ? 'sheet' : 'command')
const remarks = ref<string[]>([])
const parts = ref<string[]>([])
const fault = ref<{ line: number; column: number; key: string; detail: string }>()
const { error, busy, run } = useAsync()
const good = ref(false)
const version = ref<{ version: number; origin: string; created: string }>()
const area = ref<InstanceType<typeof CodeArea>>()
let timer: ReturnType<typeof setTimeout> | undefined
let turn = 0

async function send(path: string, method: string) {
  const response = await fetchRaw(path, { method, headers: { 'Content-Type': 'application/toml' }, body: source.value })
  return (await response.json()) as { name: string }
}

// A fault of the sheet is shown at its line, anything else as a problem.
function take(caught: unknown) {
  const told = caught instanceof CallError ? (caught.problem.errors?.[0] as typeof fault.value) : undefined
  if (told?.line) fault.value = told
  else error.value = caught
}

async function check() {
  const mine = ++turn
  if (!source.value.trim()) return
  try {
    await send('/api/v1/engines?dry_run=true', 'POST')
    if (mine !== turn) return
    good.value = true
    fault.value = undefined
    error.value = undefined
  } catch (caught) {
    if (mine !== turn) return
    good.value = false
    fault.value = undefined
    take(caught)
  }
}

watch(source, () => {
  good.value = false
  clearTimeout(timer)
  timer = setTimeout(check, 350)
})

async function save() {
  const path = props.engine ? `/api/v1/engines/${props.engine}/sheet` : '/api/v1/engines'
  let name = ''
  const saved = await run(async () => {
    name = (await send(path, props.engine ? 'PUT' : 'POST')).name
  }, 'save')
  if (saved) {
    emit('saved', name)
    await load()
  } else {
    const caught = error.value
    error.value = undefined
    take(caught)
  }
}

const draft = () =>
  run(async () => {
    const made = await ask(api.POST('/api/v1/engines/draft', { body: { command: command.value } }))
    source.value = made.sheet
    remarks.value = made.remarks
    parts.value = made.parts
    command.value = ''
    tab.value = 'sheet'
  }, 'draft')

async function load() {
  const name = props.engine
  if (!name) return
  await run(async () => {
    const sheet = await ask(api.GET('/api/v1/engines/{name}/sheet', { params: { path: { name } } }))
    source.value = sheet.document
    version.value = sheet.versions[0]
  })
}

onMounted(load)
</script>

<template>
  <div>
    <v-tabs v-if="!engine" v-model="tab" density="compact" class="mb-3">
      <v-tab value="command">From a curl command</v-tab>
      <v-tab value="sheet">Sheet</v-tab>
    </v-tabs>
    <div v-if="tab === 'command'">
      <p class="quiet mb-3">Paste a curl command that works, for example from the documentation of the engine. Its secrets become parts of a credential and are not stored.</p>
      <v-textarea v-model="command" label="Command" rows="8" class="mono" data-test="command" spellcheck="false" />
      <v-btn color="primary" :loading="busy === 'draft'" :disabled="!command.trim()" data-test="draft" @click="draft">Draft a sheet</v-btn>
    </div>
    <div v-else>
      <ul v-if="remarks.length" class="remarks mb-3"><li v-for="remark in remarks" :key="remark">{{ remark }}</li></ul>
      <p v-if="parts.length" class="mb-3">After saving, add a credential: <span class="code">{{ parts.join(', ') }}</span>. Lines with <span class="code"># ?</span> are guesses.</p>
      <p v-if="inForce" class="mb-3" data-test="overridden">The host overrides the address of this sheet: calls go to <span class="code">{{ inForce }}</span>.</p>
      <CodeArea ref="area" v-model="source" label="Sheet, TOML" test="sheet" :height="420" :colour="ofToml" :fault="fault" />
      <p class="told" role="status">
        <button v-if="fault" type="button" class="text-error fault" data-test="fault" @click="area?.goTo(fault.line)">▲ line {{ fault.line }}, column {{ fault.column }}: <span class="code">{{ fault.key }}</span> {{ fault.detail }}</button>
        <span v-else-if="good" class="text-success">● Valid</span>
        <span v-else class="quiet">{{ source.trim() ? 'checking…' : 'Sheets are TOML; docs/engine-sheets.md describes them.' }}</span>
        <span v-if="version" class="quiet">version {{ version.version }}, {{ version.origin.split('/').pop() }}</span>
      </p>
      <v-btn color="primary" :loading="busy === 'save'" :disabled="!good" data-test="save-sheet" @click="save">{{ engine ? 'Replace the sheet' : 'Add the engine' }}</v-btn>
    </div>
    <ProblemNote :error="error" />
  </div>
</template>

<style scoped>
.told {
  display: flex;
  justify-content: space-between;
  gap: 16px;
  margin: 8px 0 12px;
}

.fault {
  border: 0;
  padding: 0;
  text-align: left;
}

.remarks {
  padding-left: 20px;
}

.mono :deep(textarea) {
  font: 13px/20px var(--mono);
}
</style>
