<script setup lang="ts">
// Exchanges on record, the newest first; what was said in them is not kept.
import type { Schemas } from '@/api/client'
import StateMark from '@/components/StateMark.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { seconds } from '@/format'

defineProps<{ rows: Schemas['ExchangeLine'][] }>()
const first = (value: number | null | undefined) => (value == null ? '' : `${value.toFixed(2)} s`)
</script>

<template>
  <v-table v-if="rows.length" density="compact" data-test="exchanges">
    <thead>
      <tr>
        <th>State</th>
        <th>Begun</th>
        <th>App</th>
        <th class="number">Ear</th>
        <th class="number">Reply</th>
        <th class="number">Voice</th>
        <th class="number">Duration</th>
        <th>Fault</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in rows" :key="row.id">
        <td><StateMark :state="row.state" /></td>
        <td><TimeAgo :time="row.begun" /></td>
        <td>{{ row.app }}</td>
        <td class="number">{{ first(row.stages.ear?.first) }}</td>
        <td class="number">{{ first(row.stages.reply.first) }}</td>
        <td class="number">{{ first(row.stages.voice.first) }}</td>
        <td class="number">{{ seconds(row.duration) }}</td>
        <td>{{ row.fault }}</td>
      </tr>
    </tbody>
  </v-table>
  <p v-else class="quiet">No exchanges yet.</p>
</template>

<style scoped>
.number {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
</style>
