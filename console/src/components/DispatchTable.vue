<script setup lang="ts">
import { computed } from 'vue'
import type { Dispatch } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { decimals, milliseconds, seconds } from '@/format'

const props = defineProps<{ rows: Dispatch[] }>()
const digits = computed(() => decimals(props.rows.map((row) => row.cost)))
</script>

<template>
  <v-table class="table">
    <thead>
      <tr><th scope="col">When</th><th scope="col" class="wide">App</th><th scope="col" class="wide">Work</th><th scope="col" class="requested">Requested</th><th scope="col" class="wide">Answered by</th><th scope="col">State</th><th scope="col" class="number wide">First audio</th><th scope="col" class="number wide">Duration</th><th scope="col" class="number">Cost</th></tr>
    </thead>
    <tbody>
      <tr v-for="row in rows" :key="row.id" data-test="dispatch-row">
        <td><router-link :to="`/dispatches/${row.id}`"><TimeAgo :time="row.started" /></router-link></td>
        <td class="wide">{{ row.app }}<span v-if="row.rehearsal" class="quiet"> (rehearsal)</span><span v-if="row.sample" class="quiet"> (sample)</span></td>
        <td class="wide">{{ row.work }}</td>
        <td class="requested clip">{{ row.requested }}</td>
        <td class="wide">{{ row.engine ?? '–' }}<template v-if="row.voice">/{{ row.voice }}</template></td>
        <td><StateMark :state="row.state" /></td>
        <td class="number wide">{{ milliseconds(row.first_audio) }}</td>
        <td class="number wide">{{ seconds(row.duration) }}</td>
        <td class="number"><MoneyAmount :amount="row.cost" :digits="digits" /></td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.clip {
  max-width: 130px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}

@media (max-width: 1240px) {
  /* What the other columns leave. */
  .clip {
    width: 99%;
    max-width: 0;
  }
}

@media (max-width: 380px) {
  .requested {
    display: none;
  }
}
</style>
