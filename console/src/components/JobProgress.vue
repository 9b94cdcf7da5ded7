<script setup lang="ts">
// How far a job is, in pieces.
import { computed } from 'vue'
import type { Schemas } from '@/api/client'

const props = defineProps<{ job: Schemas['JobAnswer'] }>()
const share = computed(() => (props.job.pieces.all ? (100 * props.job.pieces.done) / props.job.pieces.all : 0))
const colour = computed(() => ({ failed: 'error', cancelled: 'warning', waiting: 'warning' })[props.job.state] ?? 'primary')
</script>

<template>
  <div class="progress">
    <v-progress-linear :model-value="share" :color="colour" height="8" rounded :aria-label="`${job.pieces.done} of ${job.pieces.all} pieces`" />
    <span class="number">{{ job.pieces.done }} of {{ job.pieces.all }}</span>
  </div>
</template>

<style scoped>
.progress {
  display: grid;
  grid-template-columns: minmax(90px, 1fr) auto;
  gap: 12px;
  align-items: center;
}
</style>
