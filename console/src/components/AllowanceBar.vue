<script setup lang="ts">
import { computed } from 'vue'
import { amount, period, pressure, type Allowance } from '@/allowances'
import TimeAgo from '@/components/TimeAgo.vue'

const props = defineProps<{ allowance: Allowance }>()
const state = computed(() => pressure(props.allowance.percent))
const label = computed(() => `${amount(props.allowance.used)} of ${amount(props.allowance.limit)} ${period(props.allowance)} used`)
</script>

<template>
  <div class="allowance" data-test="allowance">
    <div class="words">
      <span>{{ amount(allowance.limit) }} {{ period(allowance) }}<span v-if="allowance.key" class="quiet">, key <span class="code">{{ allowance.key.slice(0, 8) }}</span></span></span>
      <span :class="`text-${state.colour}`"><span aria-hidden="true">{{ state.mark }}</span> {{ allowance.percent.toFixed(0) }} %, {{ state.word }}</span>
    </div>
    <v-progress-linear :model-value="Math.min(allowance.percent, 100)" :color="state.colour" height="8" rounded :aria-label="label" />
    <div class="quiet small">{{ amount(allowance.used) }} used<template v-if="allowance.renews">; renews <TimeAgo :time="allowance.renews" /></template></div>
  </div>
</template>

<style scoped>
.words {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 2px 16px;
  font-variant-numeric: tabular-nums;
}

.small {
  font-size: 0.84rem;
}
</style>
