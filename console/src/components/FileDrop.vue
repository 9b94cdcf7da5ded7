<script setup lang="ts">
// A file to be dropped or chosen, and beside it what is to be said of it.
import { ref } from 'vue'

defineProps<{ icon: string; label: string; test: string }>()
const file = defineModel<File>()
const over = ref(false)

function drop(event: DragEvent) {
  over.value = false
  file.value = event.dataTransfer?.files[0]
}
</script>

<template>
  <section class="begin" :class="{ over }" :aria-label="label" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop">
    <label class="pick">
      <v-icon :icon="icon" size="large" />
      <span><slot name="told" /></span>
      <input type="file" :data-test="test" @change="file = ($event.target as HTMLInputElement).files?.[0]" />
    </label>
    <slot />
  </section>
</template>

<style scoped>
.begin {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
  align-items: center;
  padding: 16px;
  border: 1px dashed rgb(var(--v-theme-on-surface), 0.45);
  border-radius: 6px;
}

.begin.over {
  border-color: rgb(var(--v-theme-primary));
  background: rgb(var(--v-theme-primary), 0.08);
}

.begin :slotted(.v-input) {
  flex: 1 1 185px;
}

.pick {
  flex: 1 1 220px;
  display: flex;
  gap: 14px;
  align-items: center;
  cursor: pointer;
}

.pick input {
  position: absolute;
  opacity: 0;
  width: 1px;
}

.pick:focus-within {
  outline: 3px solid rgb(var(--v-theme-secondary));
  outline-offset: 4px;
  border-radius: 6px;
}
</style>
