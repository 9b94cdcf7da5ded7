<script setup lang="ts">
// What an engine can do, as its sheet says: models, controls, limits, formats.
import type { Engine, Schemas } from '@/api/client'

defineProps<{ engine: Engine }>()

type Work = Schemas['WorkDetails']
type Control = Schemas['ControlAnswer']

/** With a minus sign and not a hyphen. */
const signed = (value: number) => String(value).replace('-', '−')

/** The range of a control in words. */
function range(control: Control): string {
  const unit = control.unit ? ` ${control.unit}` : ''
  if (control.values.length) return control.values.join(', ')
  if (control.least != null && control.most != null) return `${signed(control.least)} to ${signed(control.most)}${unit}`
  if (control.most != null) return `at most ${control.most.toLocaleString()}${unit}`
  return control.name === 'style' ? 'the styles of each voice' : 'yes'
}

const limits = (work: Work) => work.limits.map((limit) => `${limit.most.toLocaleString()} ${limit.unit}`).join(', ') || 'none'
const hertz = (rates: number[]) => `${rates.map((rate) => rate.toLocaleString()).join(', ')} Hz`
const parts = (engine: Engine): [string, Work][] => [
  ...(engine.synthesis_details ? [['Synthesis', engine.synthesis_details] as [string, Work]] : []),
  ...(engine.recognition_details ? [['Recognition', engine.recognition_details] as [string, Work]] : []),
]
</script>

<template>
  <section v-for="[title, work] in parts(engine)" :key="title" :aria-label="title" :data-test="`details-${title}`">
    <h2>{{ title }}</h2>
    <dl class="facts">
      <div><dt>List price</dt><dd>{{ work.price }}</dd></div>
      <div><dt>Limit of one call</dt><dd>{{ limits(work) }}</dd></div>
      <div v-if="title === 'Recognition'"><dt>Languages</dt><dd>{{ work.languages.join(', ') || 'any' }}</dd></div>
    </dl>
    <h3>Models</h3>
    <v-table v-if="work.models.length" density="compact" class="table">
      <thead><tr><th scope="col">Model</th><th scope="col" class="number">Price factor</th><th scope="col">Note</th></tr></thead>
      <tbody>
        <tr v-for="model in work.models" :key="model.name"><td class="code">{{ model.name }}</td><td class="number">× {{ model.price_factor }}</td><td>{{ model.note }}</td></tr>
      </tbody>
    </v-table>
    <p v-else class="quiet">One, without a name.</p>
    <h3>Controls</h3>
    <v-table v-if="work.controls.length" density="compact" class="table">
      <thead><tr><th scope="col">Control</th><th scope="col">Range</th><th scope="col">Models</th></tr></thead>
      <tbody>
        <tr v-for="control in work.controls" :key="control.name"><td class="code">{{ control.name }}</td><td>{{ range(control) }}</td><td>{{ control.models.join(', ') || 'all' }}</td></tr>
      </tbody>
    </v-table>
    <p v-else class="quiet">None.</p>
    <p v-if="title === 'Synthesis'" class="quiet mt-2">Rate, pitch and volume that the engine lacks are emulated by the gateway.</p>
    <h3>Formats</h3>
    <v-table v-if="work.formats.length" density="compact" class="table">
      <thead><tr><th scope="col">Type</th><th scope="col">Sample rates</th><th scope="col" class="number">Bit rate</th></tr></thead>
      <tbody>
        <tr v-for="(format, at) in work.formats" :key="at"><td class="code">{{ format.type }}</td><td>{{ hertz(format.sample_rates) }}</td><td class="number">{{ format.bitrate ? `${format.bitrate / 1000} kbit/s` : '–' }}</td></tr>
      </tbody>
    </v-table>
  </section>
</template>

<style scoped>
h3 {
  font-size: 0.95rem;
  margin: 18px 0 8px;
}
</style>
