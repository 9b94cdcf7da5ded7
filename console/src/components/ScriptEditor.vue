<script setup lang="ts">
// A script in SSML: elements at hand, colours, faults at their line, and
// beside each line what would become of its elements.
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import CodeArea from '@/components/CodeArea.vue'
import { ofXml } from '@/colouring'

type Fidelity = Schemas['FidelitySchema']

const props = defineProps<{ fault?: { line: number; column: number; detail: string }; fidelity: Fidelity[]; engine?: string }>()
const source = defineModel<string>({ required: true })
const area = ref<InstanceType<typeof CodeArea>>()

/** What can be put in: its name, what it does, and what goes around or in place of the selection. */
const elements: [name: string, hint: string, before: string, after: string, sample: string][] = [
  ['Break', 'a pause', '<break time="400ms"/>', '', ''],
  ['Emphasis', 'spoken with stress', '<emphasis>', '</emphasis>', 'now'],
  ['Slower', 'rate, pitch and volume', '<prosody rate="85%">', '</prosody>', 'slowly'],
  ['Higher', 'rate, pitch and volume', '<prosody pitch="+2st">', '</prosody>', 'higher'],
  ['Say as', 'times, dates, numbers, letters', '<say-as interpret-as="time" format="hms24">', '</say-as>', '18:40'],
  ['Alias', 'spoken as other words', '<sub alias="lifeboat">', '</sub>', 'LB'],
  ['Phoneme', 'its pronunciation', '<phoneme alphabet="ipa" ph="ˈɡʌlzeɪ">', '</phoneme>', 'Gullsay'],
  ['Voice', 'another voice', '<voice gender="male">', '</voice>', 'All aboard.'],
  ['Language', 'another language', '<lang xml:lang="fr-FR">', '</lang>', 'Bonjour.'],
  ['Audio', 'a clip, by its title or clip:ID; its text if the clip is missing', '<audio src="chime.wav">', '</audio>', 'Attention, please.'],
  ['Mark', 'a named position', '<mark name="here"/>', '', ''],
]

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
</script>

<template>
  <div>
    <div class="tools mb-2" role="toolbar" aria-label="Elements">
      <v-btn v-for="[name, hint, before, after, sample] in elements" :key="name" size="small" variant="tonal" :title="hint" :data-test="`put-${name}`" @click="area?.surround(before, after, sample)">{{ name }}</v-btn>
    </div>
    <CodeArea ref="area" v-model="source" label="Script, SSML 1.1" test="script" :height="250" :colour="ofXml" :fault="fault">
      <template #default="{ top, line }">
        <div class="fidelity" data-test="beside" :aria-label="`Fidelity with ${engine ?? 'the engine'}`">
          <div :style="{ transform: `translateY(${-top}px)` }">
            <div v-for="row in beside" :key="row.line" class="row" :style="{ top: `${(row.line - 1) * line + 8}px` }" :title="row.told">
              <span v-for="part in row.parts" :key="part.outcome" :class="`text-${looks[part.outcome]?.[1] ?? 'info'}`"><span aria-hidden="true">{{ looks[part.outcome]?.[0] ?? '•' }}</span> {{ part.names }} {{ part.outcome }}</span>
            </div>
          </div>
        </div>
      </template>
    </CodeArea>
    <p class="told mt-2" role="status" data-test="script-told">
      <template v-if="fault"><span class="text-error">▲ Line {{ fault.line }}, column {{ fault.column }}:</span> {{ fault.detail }} <a href="#" @click.prevent="area?.goTo(fault.line, fault.column, 1)">Go to line</a></template>
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

.fidelity {
  position: relative;
  overflow: hidden;
  border-left: 1px solid rgb(var(--v-theme-on-surface), 0.15);
  font-size: 0.82rem;
}

.fidelity .row {
  position: absolute;
  inset-inline: 10px 6px;
  height: 22px;
  line-height: 22px;
  display: flex;
  gap: 12px;
  white-space: nowrap;
}

@media (max-width: 700px) {
  .fidelity {
    display: none;
  }
}
</style>
