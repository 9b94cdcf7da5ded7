<script setup lang="ts">
// A state as shape, colour and word: never colour alone.
import { computed } from 'vue'

const props = defineProps<{ state: string }>()
const looks: Record<string, [string, string]> = {
  ready: ['●', 'success'],
  done: ['●', 'success'],
  active: ['●', 'success'],
  made: ['●', 'success'],
  new: ['◌', 'info'],
  changed: ['◔', 'warning'],
  faulty: ['▲', 'error'],
  pending: ['◔', 'warning'],
  superseded: ['◌', 'info'],
  revoked: ['×', 'info'],
  unavailable: ['○', 'warning'],
  open: ['◐', 'info'],
  queued: ['◌', 'info'],
  running: ['◐', 'info'],
  waiting: ['◔', 'warning'],
  cancelled: ['×', 'warning'],
  absent: ['○', 'warning'],
  abandoned: ['◌', 'warning'],
  uncertain: ['◍', 'warning'],
  answered: ['●', 'success'],
  apologised: ['◔', 'warning'],
  stopped: ['×', 'info'],
  failed: ['▲', 'error'],
  refused: ['▲', 'error'],
}
const look = computed(() => looks[props.state] ?? ['•', 'info'])
</script>

<template>
  <span class="state" :class="`text-${look[1]}`"><span aria-hidden="true">{{ look[0] }}</span> {{ state }}</span>
</template>

<style scoped>
.state {
  white-space: nowrap;
  font-weight: 700;
}
</style>
