<script setup lang="ts">
// A relative time, the exact one on hover and on focus.
import { ago, exact } from '@/format'

defineProps<{ time: string }>()
</script>

<template>
  <time :datetime="time" :title="exact(time)" tabindex="0">{{ ago(time) }}</time>
</template>
