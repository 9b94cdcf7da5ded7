<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Dispatch } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import StateMark from '@/components/StateMark.vue'
import { decimals, exact, milliseconds, seconds } from '@/format'
import { useAsync } from '@/useAsync'

const id = String(useRoute().params['id'])
const dispatch = ref<Dispatch>()
const { error, run } = useAsync()
const attempts = computed(() => dispatch.value?.attempts ?? [])
const whole = computed(() => Math.max(dispatch.value?.total ?? 0, ...attempts.value.map((one) => one.offset + (one.total ?? 0)), 1))
const share = (value: number) => `${(100 * value) / whole.value}%`
const ticks = computed(() => [0, 0.25, 0.5, 0.75, 1].map((part) => ({ at: `${part * 100}%`, label: milliseconds(part * whole.value) })))

onMounted(() =>
  run(async () => {
    dispatch.value = await ask(api.GET('/api/v1/dispatches/{id}', { params: { path: { id } } }))
  }),
)
</script>

<template>
  <div class="page">
    <p><router-link to="/dispatches">← All dispatches</router-link></p>
    <h1>Dispatch</h1>
    <p class="lead quiet code">{{ id }}</p>
    <ProblemNote :error="error" />
    <template v-if="dispatch">
      <dl class="facts">
        <div><dt>State</dt><dd><StateMark :state="dispatch.state" /></dd></div>
        <div><dt>App</dt><dd>{{ dispatch.app }}<template v-if="dispatch.rehearsal"> (rehearsal)</template></dd></div>
        <div><dt>Requested</dt><dd>{{ dispatch.requested }}</dd></div>
        <div><dt>Answered by</dt><dd>{{ dispatch.engine ?? '–' }}<template v-if="dispatch.voice">/{{ dispatch.voice }}</template><template v-if="dispatch.model"> ({{ dispatch.model }})</template></dd></div>
        <div><dt>First audio</dt><dd>{{ milliseconds(dispatch.first_audio) }}</dd></div>
        <div><dt>Total</dt><dd>{{ milliseconds(dispatch.total) }}</dd></div>
        <div><dt>Duration</dt><dd>{{ seconds(dispatch.duration) }}</dd></div>
        <div><dt>Format</dt><dd>{{ dispatch.media_type }}</dd></div>
        <div><dt>Cost</dt><dd><MoneyAmount :amount="dispatch.cost" /><span v-if="dispatch.saved" class="quiet" data-test="saved"> kept audio saved <MoneyAmount :amount="dispatch.saved" /></span></dd></div>
        <div><dt>Started</dt><dd>{{ exact(dispatch.started) }}</dd></div>
      </dl>
      <p v-if="dispatch.sample" class="my-4">This is a sample: it was made up for the demo, and no engine was called.</p>
      <v-alert v-if="dispatch.problem" type="warning" variant="tonal" border="start" class="my-4">{{ dispatch.problem }}</v-alert>

      <h2 class="mt-8">Attempts</h2>
      <p v-if="!attempts.length" class="quiet">No engine was called.</p>
      <div v-else class="chart" role="table" aria-label="Attempts on a time line">
        <div v-for="attempt in attempts" :key="attempt.number" class="lane" role="row" data-test="attempt">
          <div class="label" role="cell"><strong>{{ attempt.number }}. {{ attempt.engine }}</strong><template v-if="attempt.voice">/{{ attempt.voice }}</template><br /><StateMark :state="attempt.state" /><span v-if="attempt.cause && attempt.cause !== attempt.state">&nbsp;· {{ attempt.cause }}</span></div>
          <div class="track" role="cell">
            <div class="bar" :class="attempt.state" :style="{ left: share(attempt.offset), width: share(Math.max(attempt.total ?? 0, whole * 0.004)) }">
              <div v-if="attempt.first_audio != null" class="waiting" :style="{ width: `${(100 * attempt.first_audio) / Math.max(attempt.total ?? 1, 0.01)}%` }" />
            </div>
            <div class="said quiet">after {{ milliseconds(attempt.offset) }}<template v-if="attempt.first_audio != null">, first audio {{ milliseconds(attempt.first_audio) }}</template>, {{ milliseconds(attempt.total) }} in all<template v-if="attempt.detail">: {{ attempt.detail }}</template></div>
          </div>
        </div>
        <div class="lane" aria-hidden="true"><div class="label" /><div class="track axis"><span v-for="tick in ticks" :key="tick.at" class="tick number" :style="{ left: tick.at }">{{ tick.label }}</span></div></div>
      </div>

      <h2 class="mt-8">Ledger</h2>
      <p v-if="!dispatch.ledger?.length" class="quiet">No ledger entries: nothing was charged.</p>
      <v-table v-else class="table">
        <thead><tr><th scope="col">Entry</th><th scope="col" class="number wide">Attempt</th><th scope="col">Engine</th><th scope="col" class="number wide">Characters</th><th scope="col" class="number wide">Duration</th><th scope="col" class="number">Amount</th></tr></thead>
        <tbody>
          <tr v-for="(line, index) in dispatch.ledger" :key="index"><td>{{ line.kind }}</td><td class="number wide">{{ line.attempt }}</td><td>{{ line.engine }}<template v-if="line.model"> ({{ line.model }})</template></td><td class="number wide">{{ line.characters }}</td><td class="number wide">{{ seconds(line.duration) }}</td><td class="number"><MoneyAmount :amount="line.cost" :digits="decimals(dispatch.ledger.map((one) => one.cost))" /></td></tr>
        </tbody>
      </v-table>
    </template>
    <v-progress-linear v-else-if="!error" indeterminate color="primary" aria-label="Loading the dispatch" />
  </div>
</template>

<style scoped>
.lane {
  display: grid;
  grid-template-columns: 190px minmax(0, 1fr);
  gap: 16px;
  padding: 8px 0;
  border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}

.track {
  position: relative;
  min-height: 44px;
}

.bar {
  position: absolute;
  top: 4px;
  height: 14px;
  border-radius: 3px;
  background: rgb(var(--v-theme-primary));
  overflow: hidden;
}

.bar.failed,
.bar.abandoned {
  background: rgb(var(--v-theme-error));
}

.waiting {
  height: 100%;
  background: repeating-linear-gradient(135deg, transparent 0 4px, rgba(255, 255, 255, 0.45) 4px 8px);
}

.said {
  padding-top: 24px;
  font-size: 0.86rem;
  overflow-wrap: anywhere;
}

.axis {
  min-height: 18px;
}

.tick {
  position: absolute;
  transform: translateX(-50%);
  font-size: 0.78rem;
}

.tick:first-child {
  transform: none;
}

.tick:last-child {
  transform: translateX(-100%);
}

@media (max-width: 600px) {
  .lane {
    grid-template-columns: minmax(0, 1fr);
    gap: 4px;
  }
}
</style>
