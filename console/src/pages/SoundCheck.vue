<script setup lang="ts">
import { ref } from 'vue'
import SpeakPanel from '@/components/SpeakPanel.vue'
import TranscribePanel from '@/components/TranscribePanel.vue'

// A script needs the width of the page.
const mode = ref('text')
</script>

<template>
  <div class="page wide">
    <h1>Sound check</h1>
    <p class="lead quiet">Speak a sentence in any voice, and transcribe a recording with any engine.</p>
    <div class="panels" :class="mode">
      <SpeakPanel @mode="mode = $event" />
      <TranscribePanel />
    </div>
  </div>
</template>

<style scoped>
.panels {
  display: grid;
  grid-template-columns: minmax(0, 7fr) minmax(0, 5fr);
  gap: 20px;
  align-items: start;
}

.panels.script {
  grid-template-columns: minmax(0, 1fr);
}

@media (max-width: 959px) {
  .panels {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
