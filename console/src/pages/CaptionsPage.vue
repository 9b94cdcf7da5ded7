<script setup lang="ts">
import { mdiMicrophone, mdiStop } from '@mdi/js'
import { nextTick, onBeforeUnmount, onMounted, ref, shallowRef } from 'vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { listen, withMessage, type Caption, type Listening, type LiveMessage } from '@/captions'
import { hearers, type HearerChoice } from '@/hearers'
import { useAsync } from '@/useAsync'
import { commandText } from '@/words'

const choices = ref<HearerChoice[]>([])
const wanted = ref('')
const language = ref('')
const captions = ref<Caption[]>([])
const session = shallowRef<Listening>()
/** Held down: the session ends when it is let go. */
const held = ref(false)
const level = ref(0)
const facts = ref('')
const last = ref<HTMLElement>()
const { error, run } = useAsync()
let sessions = 0
let letGo = false

onMounted(() =>
  run(async () => {
    choices.value = await hearers()
    wanted.value = choices.value[0]?.value ?? ''
  }),
)
onBeforeUnmount(() => session.value?.end())

async function begin() {
  if (session.value) return
  error.value = undefined
  facts.value = ''
  letGo = false
  const mine = ++sessions
  const [kind, value] = wanted.value.split('=')
  const opening: Record<string, string> = { ...(kind && value ? { [kind]: value } : {}), ...(language.value ? { language: language.value } : {}) }
  const placeholder: Listening = { end: () => (letGo = true) }
  session.value = placeholder
  const running = await listen(opening, {
    message: (message) => take(mine, message),
    level: (one) => (level.value = one),
    over: (problem) => {
      if (mine === sessions) session.value = undefined
      level.value = 0
      error.value = problem
    },
  })
  if (session.value === placeholder) session.value = running
  if (letGo) running.end()
}

async function take(mine: number, message: LiveMessage) {
  captions.value = withMessage(captions.value, mine, message)
  if (message.type === 'open') facts.value = `by ${message.engine}`
  if (message.type === 'renewed') facts.value = `${message.engine} goes on`
  if (message.type === 'end-of-input' && message.cost) facts.value = `${message.cost.amount} ${message.cost.currency}`
  await nextTick()
  last.value?.scrollIntoView({ block: 'nearest' })
}

function turn() {
  if (session.value) session.value.end()
  else void begin()
}

function hold() {
  held.value = true
  void begin()
}

function release() {
  if (!held.value) return
  held.value = false
  session.value?.end()
}

function press(event: KeyboardEvent) {
  if (!event.repeat) hold()
}
</script>

<template>
  <div class="page">
    <h1>Captions</h1>
    <p class="lead quiet">Say something: the words appear while you speak, and stay once they are final.</p>
    <div class="row">
      <v-select v-model="wanted" :items="choices" label="Route or engine" :disabled="!!session" hide-details data-test="caption-with" />
      <v-text-field v-model="language" label="Language" placeholder="en-GB" persistent-placeholder :disabled="!!session" hide-details class="language" />
    </div>
    <div class="row mt-4">
      <v-btn :color="session && !held ? 'secondary' : 'primary'" variant="flat" :prepend-icon="session && !held ? mdiStop : mdiMicrophone" :disabled="held" data-test="listen" @click="turn">
        {{ session && !held ? 'Stop' : 'Listen' }}
      </v-btn>
      <v-btn
        variant="tonal"
        class="hold"
        :class="{ held }"
        :disabled="!!session && !held"
        :aria-pressed="held"
        data-test="hold"
        @pointerdown.prevent="hold"
        @pointerup="release"
        @pointercancel="release"
        @pointerleave="release"
        @keydown.space.prevent="press"
        @keyup.space="release"
        @keydown.enter.prevent="press"
        @keyup.enter="release"
        @contextmenu.prevent
      >
        Hold to talk
      </v-btn>
      <meter v-if="session" :value="level" max="1" aria-label="Level" />
      <span class="quiet" data-test="caption-facts">{{ facts }}</span>
    </div>
    <ProblemNote :error="error" />
    <ol v-if="captions.length" class="captions" role="log" aria-live="polite" data-test="captions">
      <li v-for="(caption, index) in captions" :key="caption.key" :ref="(element) => { if (index === captions.length - 1) last = element as HTMLElement }" :class="{ interim: !caption.final }" :data-test="caption.final ? 'final' : 'interim'">
        <span dir="auto">{{ caption.text }}</span>
        <span v-if="caption.command" class="command">▸ {{ commandText(caption.command) }}</span>
      </li>
    </ol>
    <p v-else class="quiet mt-6">No captions yet. The browser asks for the microphone when you begin.</p>
    <p v-if="captions.length" class="mt-4"><v-btn size="small" variant="text" @click="captions = []">Clear</v-btn></p>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: center;
}

.row > .v-input {
  flex: 1 1 260px;
}

.row > .language {
  flex: 0 1 160px;
}

.hold {
  touch-action: none;
  user-select: none;
}

.hold.held {
  background: rgb(var(--v-theme-secondary));
  color: rgb(var(--v-theme-on-secondary));
}

.captions {
  list-style: none;
  padding: 16px 18px;
  margin-top: 20px;
  max-height: 55vh;
  overflow-y: auto;
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  font-size: 1.35rem;
  line-height: 1.6;
}

.interim {
  font-style: italic;
  opacity: 0.8;
}

.command {
  margin-left: 12px;
  font-size: 0.9rem;
  color: rgb(var(--v-theme-primary));
}
</style>
