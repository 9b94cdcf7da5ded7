<script setup lang="ts">
// Audio that is played where it stands, with its waveform.
import { mdiDownload, mdiPause, mdiPlay } from '@mdi/js'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useTheme } from 'vuetify'
import WaveSurfer from 'wavesurfer.js'
import { seconds } from '@/format'

const props = defineProps<{ source: Blob; name: string; autoplay?: boolean }>()
const emit = defineEmits<{ time: [seconds: number] }>()
const wave = ref<HTMLElement>()
const audio = ref<HTMLAudioElement>()
const playing = ref(false)
const position = ref(0)
const length = ref(0)
const shown = ref(true)
const url = ref('')
const theme = useTheme()
let surfer: WaveSurfer | undefined

function draw() {
  surfer?.destroy()
  if (url.value) URL.revokeObjectURL(url.value)
  url.value = URL.createObjectURL(props.source)
  shown.value = true
  const element = audio.value
  if (!element || !wave.value) return
  element.src = url.value
  const colors = theme.global.current.value.colors as Record<string, string>
  surfer = WaveSurfer.create({
    container: wave.value,
    media: element,
    height: 56,
    waveColor: colors['primary'] ?? '',
    progressColor: colors['secondary'] ?? '',
    cursorColor: colors['on-surface'] ?? '',
    barWidth: 2,
    barGap: 1,
    barRadius: 2,
    normalize: true,
  })
  // Formats that the browser cannot play, such as raw ones, are still saved.
  surfer.on('error', () => (shown.value = false))
  surfer.on('ready', (value) => (length.value = value))
  if (props.autoplay) void element.play().catch(() => {})
}

function turn() {
  const element = audio.value
  if (!element) return
  if (element.paused) void element.play()
  else element.pause()
}

function tick() {
  position.value = audio.value?.currentTime ?? 0
  emit('time', position.value)
}

function seek(to: number) {
  if (audio.value) audio.value.currentTime = to
}

defineExpose({ seek })
onMounted(draw)
watch(() => props.source, draw)
onBeforeUnmount(() => {
  surfer?.destroy()
  URL.revokeObjectURL(url.value)
})
</script>

<template>
  <div class="player" @keydown.space.prevent="turn">
    <audio ref="audio" data-test="audio" @play="playing = true" @pause="playing = false" @ended="playing = false" @timeupdate="tick" />
    <v-btn :icon="playing ? mdiPause : mdiPlay" :aria-label="playing ? 'Stop' : 'Play'" :disabled="!shown" color="primary" variant="flat" @click="turn" />
    <div v-show="shown" ref="wave" class="wave" />
    <div v-if="!shown" class="wave quiet">This browser cannot play this format; save the file to play it elsewhere.</div>
    <span v-if="shown" class="number">{{ seconds(position) }} / {{ seconds(length) }}</span>
    <v-btn :icon="mdiDownload" :href="url" :download="name" aria-label="Save" variant="text" />
  </div>
</template>

<style scoped>
.player {
  display: flex;
  align-items: center;
  gap: 12px;
  flex-wrap: wrap;
}

.wave {
  flex: 1 1 220px;
  min-width: 0;
}
</style>
