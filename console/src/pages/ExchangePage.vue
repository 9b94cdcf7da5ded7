<script setup lang="ts">
import { mdiMicrophone, mdiPaperclip, mdiSend, mdiStop } from '@mdi/js'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { Exchange, type ExchangeOptions } from '../../../client/exchange.js'
import { api, ask, CallError, type Schemas } from '@/api/client'
import ExchangeTable from '@/components/ExchangeTable.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StageLine from '@/components/StageLine.vue'
import VoicePicker from '@/components/VoicePicker.vue'
import { withTurn, type Turn } from '@/exchange'
import { money } from '@/format'
import { hearers, type HearerChoice } from '@/hearers'
import { useAsync } from '@/useAsync'

const ears = ref<HearerChoice[]>([])
const ear = ref('')
const routes = ref<Schemas['RouteSchema'][]>([])
const voice = ref('')
const local = ref(false)
const typed = ref('')
const attachment = ref<File>()
const chooser = ref<HTMLInputElement>()
const turns = ref<Turn[]>([])
const records = ref<Schemas['ExchangeLine'][]>([])
const session = shallowRef<Exchange>()
/** How the session takes its turns. */
const kind = ref<'silence' | 'push'>('silence')
const held = ref(false)
const listening = ref('')
const { error, run } = useAsync()

const log = ref<HTMLElement>()

// The turn that is spoken stays in sight.
watch(turns, () => nextTick(() => log.value?.lastElementChild?.scrollIntoView({ block: 'nearest' })))

const talking = computed(() => session.value !== undefined && kind.value === 'silence')

async function list() {
  records.value = (await ask(api.GET('/api/v1/exchanges', { params: { query: { limit: 20 } } }))).items
}

onMounted(() =>
  run(async () => {
    ears.value = await hearers()
    ear.value = ears.value[0]?.value ?? ''
    routes.value = (await ask(api.GET('/api/v1/routes'))).items.filter((route) => route.work === 'synthesis')
    voice.value = routes.value[0]?.name ?? ''
    await list()
  }),
)
onBeforeUnmount(() => session.value?.close())

function place() {
  const url = new URL('/api/v1/exchanges/live', location.href)
  url.protocol = url.protocol === 'https:' ? 'wss:' : 'ws:'
  return Promise.resolve(url)
}

/** A session that takes its turns in one way; one of the other way ends. */
function opened(turnsBy: 'silence' | 'push'): Exchange {
  if (session.value && kind.value === turnsBy) return session.value
  session.value?.close()
  error.value = undefined
  kind.value = turnsBy
  const [with_, name] = ear.value.split('=')
  const options: ExchangeOptions = {
    turns: turnsBy,
    ear: with_ && name ? { [with_]: name } : {},
    voice: voice.value ? { voice: voice.value } : {},
    ...(local.value ? { site: 'local' } : {}),
  }
  const exchange = new Exchange(place, options)
  const change = (one: (turn: Turn) => Turn, id?: string) => (turns.value = withTurn(turns.value, one, id))
  exchange.addEventListener('listening', () => (listening.value = '…'))
  for (const type of ['interim', 'final'] as const) exchange.addEventListener(type, ({ detail }) => (listening.value = detail.text))
  exchange.addEventListener('nothing-said', () => (listening.value = ''))
  exchange.addEventListener('said', ({ detail }) => {
    listening.value = ''
    change((turn) => ({ ...turn, said: detail.text }), detail.exchange)
  })
  exchange.addEventListener('sentence', ({ detail }) => change((turn) => ({ ...turn, reply: turn.reply + detail.text })))
  exchange.addEventListener('turn', ({ detail }) => {
    change((turn) => ({ ...turn, end: detail }), detail.exchange)
    void run(list)
  })
  exchange.addEventListener('error', ({ detail }) => (error.value = new CallError(detail.problem)))
  void exchange.ended.then(() => {
    if (session.value === exchange) session.value = undefined
    listening.value = ''
  })
  session.value = exchange
  return exchange
}

function talk() {
  if (talking.value) session.value?.close()
  else opened('silence')
}

function hold(event?: KeyboardEvent) {
  if (event?.repeat || held.value) return
  held.value = true
  opened('push').press()
}

function release() {
  if (!held.value) return
  held.value = false
  void session.value?.release()
}

async function send() {
  const text = typed.value.trim()
  if (!text) return
  const exchange = opened(session.value ? kind.value : 'push')
  typed.value = ''
  if (attachment.value) await exchange.attach(attachment.value)
  attachment.value = undefined
  exchange.say(text)
}

function attach(event: Event) {
  attachment.value = (event.target as HTMLInputElement).files?.[0]
}
</script>

<template>
  <div class="page">
    <h1>Exchange</h1>
    <p class="lead quiet">Say or type something. The reply hook of the app answers, and the answer is spoken while it comes in.</p>
    <div class="row">
      <v-select v-model="ear" :items="ears" label="Recognise with" :disabled="!!session" hide-details data-test="ear" />
      <VoicePicker v-model="voice" :routes="routes" />
      <v-checkbox v-model="local" label="Only on this machine" :disabled="!!session" hide-details density="compact" class="local" />
    </div>
    <div class="row mt-4">
      <v-btn :color="talking ? 'secondary' : 'primary'" variant="flat" :prepend-icon="talking ? mdiStop : mdiMicrophone" :disabled="held" data-test="talk" @click="talk">
        {{ talking ? 'End' : 'Talk' }}
      </v-btn>
      <v-btn
        variant="tonal"
        class="hold"
        :class="{ held }"
        :aria-pressed="held"
        data-test="hold"
        @pointerdown.prevent="hold()"
        @pointerup="release"
        @pointercancel="release"
        @pointerleave="release"
        @keydown.space.prevent="hold"
        @keyup.space="release"
        @keydown.enter.prevent="hold"
        @keyup.enter="release"
        @contextmenu.prevent
      >
        Hold to talk
      </v-btn>
      <v-btn variant="text" :disabled="!session" data-test="quiet" @click="session?.stop()">Stop the reply</v-btn>
      <span class="quiet" role="status" data-test="listening">{{ listening }}</span>
    </div>
    <form class="row mt-4" @submit.prevent="send">
      <v-text-field v-model="typed" label="Or type" placeholder="When is the next ferry to Gullsay?" persistent-placeholder hide-details data-test="typed" />
      <input ref="chooser" type="file" class="chooser" aria-label="File for the hook" data-test="attachment" @change="attach" />
      <v-btn variant="text" :prepend-icon="mdiPaperclip" @click="chooser?.click()">{{ attachment?.name ?? 'Attach' }}</v-btn>
      <v-btn type="submit" variant="tonal" :prepend-icon="mdiSend" :disabled="!typed.trim()" data-test="send">Send</v-btn>
    </form>
    <ProblemNote :error="error" />
    <ol v-if="turns.length" ref="log" class="turns" role="log" aria-live="polite" data-test="turns">
      <li v-for="turn in turns" :key="turn.exchange" data-test="turn">
        <p class="said" dir="auto">{{ turn.said }}</p>
        <p class="reply" dir="auto">{{ turn.reply || '…' }}</p>
        <template v-if="turn.end">
          <StageLine :stages="turn.end.stages" />
          <p class="quiet small">
            {{ turn.end.state }}<template v-if="turn.end.fault">: {{ turn.end.fault }}</template>
            · {{ turn.end.costs.map((cost) => money(cost)).join(' + ') || 'no cost' }}
          </p>
        </template>
      </li>
    </ol>
    <p v-else class="quiet mt-6">No turns yet. “Talk” listens until you pause; the browser asks for the microphone.</p>
    <h2 class="mt-8">On record</h2>
    <ExchangeTable :rows="records" />
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

.row > .local {
  flex: 0 0 auto;
}

.hold {
  touch-action: none;
  user-select: none;
}

.hold.held {
  background: rgb(var(--v-theme-secondary));
  color: rgb(var(--v-theme-on-secondary));
}

.chooser {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
  pointer-events: none;
}

.turns {
  list-style: none;
  padding: 0;
  margin-top: 20px;
  display: grid;
  gap: 14px;
}

.turns > li {
  padding: 14px 18px;
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}

.said {
  margin: 0;
  font-weight: 600;
}

.reply {
  margin: 4px 0 0;
  font-size: 1.15rem;
  max-width: 75ch;
}

.small {
  margin: 0;
  font-size: 0.85rem;
}
</style>
