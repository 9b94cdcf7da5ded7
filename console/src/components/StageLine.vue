<script setup lang="ts">
// The stages of an exchange on one time line.
import { computed } from 'vue'
import type { ExchangeTurn } from '../../../client/dispatcher.js'
import { timeLine } from '@/exchange'

const props = defineProps<{ stages: ExchangeTurn['stages'] }>()
const bars = computed(() => timeLine(props.stages))
const percent = (share: number) => `${(share * 100).toFixed(2)}%`
</script>

<template>
  <ul class="stages" aria-label="Stages, in seconds from the end of what was said" data-test="stages">
    <li v-for="bar in bars" :key="bar.name">
      <span class="name">{{ bar.name }}</span>
      <span class="track" aria-hidden="true">
        <span class="wait" :style="{ left: percent(bar.from), width: percent(bar.at - bar.from) }" />
        <span class="work" :style="{ left: percent(bar.at), width: percent(bar.to - bar.at) }" />
      </span>
      <span class="first">{{ bar.first.toFixed(2) }} s</span>
    </li>
  </ul>
</template>

<style scoped>
.stages {
  list-style: none;
  padding: 0;
  margin: 10px 0 4px;
  max-width: 640px;
}

.stages > li {
  display: grid;
  grid-template-columns: 52px 1fr 64px;
  gap: 10px;
  align-items: center;
  font-size: 0.85rem;
}

.track {
  position: relative;
  height: 10px;
  border-radius: 3px;
  background: rgba(var(--v-border-color), 0.1);
}

.track > span {
  position: absolute;
  top: 0;
  height: 100%;
  min-width: 2px;
  border-radius: 3px;
}

.wait {
  background: rgb(var(--v-theme-primary));
}

.work {
  background: rgb(var(--v-theme-primary), 0.35);
}

.first {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
</style>
