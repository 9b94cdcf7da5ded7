<script setup lang="ts">
// A route or a voice, searched by the service while one types.
import { computed, ref, watch } from 'vue'
import { api, ask, type Schemas, type Voice } from '@/api/client'

/** Voices that one search shows. */
const SHOWN = 25

const props = defineProps<{ routes: Schemas['RouteSchema'][]; language?: string | null; gender?: string | null }>()
const chosen = defineModel<string>({ required: true })
/** The chosen voice, where it is one and is known. */
const emit = defineEmits<{ voice: [voice: Voice | undefined] }>()
const search = ref('')
const voices = ref<Voice[]>([])
const total = ref(0)
const loading = ref(false)
let timer: ReturnType<typeof setTimeout> | undefined
let turn = 0

interface Choice { title: string; value: string; subtitle: string }

const ofVoice = (voice: Voice): Choice => ({
  title: voice.id,
  value: voice.id,
  subtitle: [voice.languages.join(', '), voice.gender, voice.availability === 'ready' ? voice.character : voice.availability].filter(Boolean).join(' · '),
})

/** What is typed; not the title of the choice, which the field shows too. */
const typed = computed(() => (search.value === chosen.value ? '' : search.value.trim()))
const choices = computed<Choice[]>(() => {
  const plans = props.routes.filter((route) => !typed.value || `${route.name} ${route.note}`.toLowerCase().includes(typed.value.toLowerCase()))
  const all = [...plans.map((route) => ({ title: route.name ?? '', value: route.name ?? '', subtitle: `route: ${route.note ?? ''}` })), ...voices.value.map(ofVoice)]
  // The choice itself is always among them, whatever is searched.
  return !chosen.value || all.some((one) => one.value === chosen.value) ? all : [{ title: chosen.value, value: chosen.value, subtitle: '' }, ...all]
})
const more = computed(() => total.value - voices.value.length)

async function load() {
  const mine = ++turn
  loading.value = true
  try {
    const query = {
      limit: SHOWN,
      ...(typed.value ? { search: typed.value } : {}),
      ...(props.language ? { languages: props.language } : {}),
      ...(props.gender ? { gender: props.gender } : {}),
    }
    const list = await ask(api.GET('/api/v1/voices', { params: { query } }))
    if (mine !== turn) return
    voices.value = list.items
    total.value = list.total
  } catch {
    // The page tells of a service that does not answer.
  } finally {
    if (mine === turn) loading.value = false
  }
}

watch(typed, () => {
  clearTimeout(timer)
  timer = setTimeout(load, 150)
})
watch(() => [props.language, props.gender], load, { immediate: true })

watch(
  chosen,
  async (id) => {
    const known = voices.value.find((one) => one.id === id)
    if (known || !id.includes('/')) return emit('voice', known)
    const [engine, ...rest] = id.split('/')
    const path = { engine: engine!, voice: rest.join('/') }
    emit('voice', await ask(api.GET('/api/v1/voices/{engine}/{voice}', { params: { path } })).catch(() => undefined))
  },
  { immediate: true },
)
</script>

<template>
  <v-autocomplete v-model="chosen" v-model:search="search" :items="choices" :loading="loading" no-filter label="Route or voice" hide-no-data data-test="voice" :item-props="(item: Choice) => ({ subtitle: item.subtitle })">
    <template v-if="more > 0" #append-item>
      <p class="quiet px-4 py-2">{{ more }} more: type a name, a language or a style</p>
    </template>
  </v-autocomplete>
</template>
