<script setup lang="ts">
// A text area for source text: numbered lines, colours, a fault at its line.
// The slot is beside the lines and is told how far they are scrolled.
import { computed, nextTick, ref } from 'vue'
import type { Token } from '@/colouring'

/** Height of a line, in pixels. */
const LINE = 22

const props = defineProps<{ label: string; test: string; height: number; colour: (source: string) => Token[][]; fault?: { line: number } }>()
const source = defineModel<string>({ required: true })
const area = ref<HTMLTextAreaElement>()
const top = ref(0)
const left = ref(0)
const coloured = computed(() => props.colour(source.value))

function scroll() {
  top.value = area.value?.scrollTop ?? 0
  left.value = area.value?.scrollLeft ?? 0
}

/** Selects from a line and column on, both from 1; to the end of the line without a length. */
async function goTo(line: number, column = 1, length?: number) {
  await nextTick()
  const field = area.value
  if (!field) return
  const lines = source.value.split('\n')
  const at = lines.slice(0, line - 1).reduce((sum, text) => sum + text.length + 1, 0) + column - 1
  field.focus()
  field.setSelectionRange(at, at + (length ?? lines[line - 1]?.length ?? 0))
  field.scrollTop = Math.max(0, (line - 5) * LINE)
}

/** Puts text around the selection, or around a sample where nothing is selected. */
async function surround(before: string, after: string, sample: string) {
  const field = area.value
  if (!field) return
  const [from, to] = [field.selectionStart, field.selectionEnd]
  const chosen = source.value.slice(from, to) || sample
  source.value = source.value.slice(0, from) + before + chosen + after + source.value.slice(to)
  await nextTick()
  field.focus()
  field.setSelectionRange(from + before.length, from + before.length + chosen.length)
}

defineExpose({ goTo, surround })
</script>

<template>
  <div class="area" :class="{ faulty: fault, beside: $slots.default }" :style="{ height: `${height}px` }">
    <div class="lines code" aria-hidden="true">
      <div :style="{ transform: `translateY(${-top}px)` }">
        <div v-for="(_, index) in coloured" :key="index" :class="{ here: fault?.line === index + 1 }">{{ index + 1 }}</div>
      </div>
    </div>
    <div class="field">
      <pre class="code" aria-hidden="true" :style="{ transform: `translate(${-left}px, ${-top}px)` }"><div v-for="(line, index) in coloured" :key="index"><span v-for="(token, at) in line" :key="at" :class="token.kind">{{ token.text }}</span>{{ line.length ? '' : ' ' }}</div></pre>
      <textarea ref="area" v-model="source" class="code" :aria-label="label" spellcheck="false" wrap="off" :data-test="test" @scroll="scroll" />
    </div>
    <slot :top="top" :line="LINE" />
  </div>
</template>

<style scoped>
.area {
  display: grid;
  grid-template-columns: 44px minmax(0, 1fr);
  border: 1px solid rgb(var(--v-theme-on-surface), 0.4);
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  overflow: hidden;
}

.area.beside {
  grid-template-columns: 44px minmax(0, 1fr) minmax(160px, 310px);
}

.area.faulty {
  border-color: rgb(var(--v-theme-error));
}

.area:focus-within {
  outline: 2px solid rgb(var(--v-theme-primary));
}

.lines,
.field pre,
.field textarea {
  line-height: 22px;
  padding-block: 8px;
}

.lines {
  overflow: hidden;
  padding-inline: 6px;
  text-align: right;
  opacity: 0.75;
  border-right: 1px solid rgb(var(--v-theme-on-surface), 0.15);
}

.lines .here {
  color: rgb(var(--v-theme-error));
  font-weight: 700;
}

.field {
  position: relative;
  overflow: hidden;
}

.field pre,
.field textarea {
  padding-inline: 10px;
  margin: 0;
  font-size: 0.86rem;
  font-family: var(--mono);
  white-space: pre;
  tab-size: 2;
}

.field pre {
  pointer-events: none;
  color: rgb(var(--v-theme-on-surface));
}

.field textarea {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  resize: none;
  border: 0;
  outline: 0;
  background: transparent;
  color: transparent;
  caret-color: rgb(var(--v-theme-on-surface));
}

.tag {
  color: rgb(var(--v-theme-primary));
  font-weight: 600;
}

.name {
  color: rgb(var(--v-theme-success));
}

.value {
  color: rgb(var(--v-theme-secondary));
}

.edge,
.comment {
  opacity: 0.72;
}

@media (max-width: 700px) {
  .area,
  .area.beside {
    grid-template-columns: 34px minmax(0, 1fr);
  }
}
</style>
