<script setup lang="ts">
// A script in SSML: elements at hand, colours, faults at their line, and
// beside each line what would become of its elements.
import { computed, nextTick, ref } from 'vue'
import type { Schemas } from '@/api/client'

type Fidelity = Schemas['FidelitySchema']

const props = defineProps<{ fault?: { line: number; column: number; detail: string }; fidelity: Fidelity[]; engine?: string }>()
const source = defineModel<string>({ required: true })
const area = ref<HTMLTextAreaElement>()
const top = ref(0)
const left = ref(0)

/** Height of a line, in pixels. */
const LINE = 22

/** What can be put in: its name, what it does, and what goes around or in place of the selection. */
const elements: [name: string, hint: string, before: string, after: string, sample: string][] = [
  ['Break', 'a pause', '<break time="400ms"/>', '', ''],
  ['Emphasis', 'said with stress', '<emphasis>', '</emphasis>', 'now'],
  ['Slower', 'rate, pitch and volume', '<prosody rate="85%">', '</prosody>', 'slowly'],
  ['Higher', 'rate, pitch and volume', '<prosody pitch="+2st">', '</prosody>', 'higher'],
  ['Say as', 'times, dates, numbers, letters', '<say-as interpret-as="time" format="hms24">', '</say-as>', '18:40'],
  ['Alias', 'said in other words', '<sub alias="lifeboat">', '</sub>', 'LB'],
  ['Phoneme', 'its pronunciation', '<phoneme alphabet="ipa" ph="ˈɡʌlzeɪ">', '</phoneme>', 'Gullsay'],
  ['Voice', 'another voice', '<voice gender="male">', '</voice>', 'All aboard.'],
  ['Language', 'another language', '<lang xml:lang="fr-FR">', '</lang>', 'Bonjour.'],
  ['Audio', 'a clip, by its title or clip:ID; its text if the clip is missing', '<audio src="chime.wav">', '</audio>', 'Attention, please.'],
  ['Mark', 'a name for a moment', '<mark name="here"/>', '', ''],
]

interface Token { text: string; kind: string }

/** The pieces of a line by what they are. */
function tokens(text: string): Token[] {
  const found: Token[] = []
  const pattern = /(<!--.*?(?:-->|$))|(<\/?)([\w:.-]+)|([\w:.-]+)(=)("[^"]*"?|'[^']*'?)|(\/?>)|(&[\w#]+;)/g
  let at = 0
  let inside = false
  for (const match of text.matchAll(pattern)) {
    if (match[4] && !inside) continue
    if (match.index > at) found.push({ text: text.slice(at, match.index), kind: '' })
    if (match[1]) found.push({ text: match[1], kind: 'comment' })
    else if (match[3]) {
      found.push({ text: match[2]!, kind: 'edge' }, { text: match[3], kind: 'tag' })
      inside = true
    } else if (match[6]) found.push({ text: match[4]!, kind: 'name' }, { text: '=', kind: 'edge' }, { text: match[6], kind: 'value' })
    else if (match[7]) {
      found.push({ text: match[7], kind: 'edge' })
      inside = false
    } else found.push({ text: match[0], kind: 'value' })
    at = match.index + match[0].length
  }
  if (at < text.length) found.push({ text: text.slice(at), kind: '' })
  return found
}

const lines = computed(() => source.value.split('\n'))
const coloured = computed(() => lines.value.map(tokens))

const ranks = ['native', 'rewritten', 'emulated', 'plain', 'omitted', 'refused']
const looks: Record<string, [shape: string, colour: string]> = {
  native: ['●', 'success'],
  rewritten: ['◆', 'success'],
  emulated: ['◇', 'info'],
  plain: ['▲', 'warning'],
  omitted: ['×', 'error'],
  refused: ['×', 'error'],
}

/** What becomes of the elements of each line, the worst first. */
const beside = computed(() => {
  const byLine = new Map<number, Fidelity[]>()
  for (const item of props.fidelity) if (item.line) byLine.set(item.line, [...(byLine.get(item.line) ?? []), item])
  return [...byLine].map(([line, items]) => {
    const sorted = [...items].sort((a, b) => ranks.indexOf(b.outcome) - ranks.indexOf(a.outcome))
    const words = new Map<string, string[]>()
    for (const item of sorted) words.set(item.outcome, [...new Set([...(words.get(item.outcome) ?? []), item.element])])
    const told = sorted.map((item) => `${item.element} (${item.line}:${item.column}) ${item.outcome}${item.note ? `: ${item.note}` : ''}`).join('\n')
    return { line, parts: [...words].map(([outcome, names]) => ({ outcome, names: names.join(', ') })), told }
  })
})

async function put(before: string, after: string, sample: string) {
  const field = area.value
  if (!field) return
  const [from, to] = [field.selectionStart, field.selectionEnd]
  const chosen = source.value.slice(from, to) || sample
  source.value = source.value.slice(0, from) + before + chosen + after + source.value.slice(to)
  await nextTick()
  field.focus()
  field.setSelectionRange(from + before.length, from + before.length + chosen.length)
}

async function goTo(line: number, column: number) {
  await nextTick()
  const at = lines.value.slice(0, line - 1).reduce((sum, text) => sum + text.length + 1, 0) + column - 1
  area.value?.focus()
  area.value?.setSelectionRange(at, at + 1)
}

function scroll() {
  top.value = area.value?.scrollTop ?? 0
  left.value = area.value?.scrollLeft ?? 0
}
</script>

<template>
  <div>
    <div class="tools mb-2" role="toolbar" aria-label="Elements">
      <v-btn v-for="[name, hint, before, after, sample] in elements" :key="name" size="small" variant="tonal" :title="hint" :data-test="`put-${name}`" @click="put(before, after, sample)">{{ name }}</v-btn>
    </div>
    <div class="script" :class="{ faulty: fault }">
      <div class="lines code" aria-hidden="true">
        <div :style="{ transform: `translateY(${-top}px)` }">
          <div v-for="(_, index) in lines" :key="index" :class="{ here: fault?.line === index + 1 }">{{ index + 1 }}</div>
        </div>
      </div>
      <div class="field">
        <pre class="code" aria-hidden="true" :style="{ transform: `translate(${-left}px, ${-top}px)` }"><div v-for="(line, index) in coloured" :key="index"><span v-for="(token, at) in line" :key="at" :class="token.kind">{{ token.text }}</span>{{ line.length ? '' : ' ' }}</div></pre>
        <textarea ref="area" v-model="source" class="code" aria-label="Script, SSML 1.1" spellcheck="false" wrap="off" data-test="script" @scroll="scroll" />
      </div>
      <div class="beside" data-test="beside" :aria-label="`Fidelity with ${engine ?? 'the engine'}`">
        <div :style="{ transform: `translateY(${-top}px)` }">
          <div v-for="row in beside" :key="row.line" class="row" :style="{ top: `${(row.line - 1) * LINE + 8}px` }" :title="row.told">
            <span v-for="part in row.parts" :key="part.outcome" :class="`text-${looks[part.outcome]?.[1] ?? 'info'}`"><span aria-hidden="true">{{ looks[part.outcome]?.[0] ?? '•' }}</span> {{ part.names }} {{ part.outcome }}</span>
          </div>
        </div>
      </div>
    </div>
    <p class="told mt-2" role="status" data-test="script-told">
      <template v-if="fault"><span class="text-error">▲ Line {{ fault.line }}, column {{ fault.column }}:</span> {{ fault.detail }} <a href="#" @click.prevent="goTo(fault.line, fault.column)">Go to line</a></template>
      <template v-else-if="fidelity.length"><span class="text-success">● Valid.</span> Beside each line: fidelity of its elements{{ engine ? ` with ${engine}` : '' }}.</template>
    </p>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}

.script {
  display: grid;
  grid-template-columns: 44px minmax(0, 1fr) minmax(160px, 310px);
  border: 1px solid rgb(var(--v-theme-on-surface), 0.4);
  border-radius: 6px;
  overflow: hidden;
}

.script.faulty {
  border-color: rgb(var(--v-theme-error));
}

.script:focus-within {
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
  height: 250px;
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

.beside {
  position: relative;
  overflow: hidden;
  border-left: 1px solid rgb(var(--v-theme-on-surface), 0.15);
  font-size: 0.82rem;
}

.beside .row {
  position: absolute;
  inset-inline: 10px 6px;
  height: 22px;
  line-height: 22px;
  display: flex;
  gap: 12px;
  white-space: nowrap;
}

@media (max-width: 700px) {
  .script {
    grid-template-columns: 34px minmax(0, 1fr);
  }

  .beside {
    display: none;
  }
}
</style>
