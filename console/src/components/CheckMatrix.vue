<script setup lang="ts">
// The conformance matrix: claimed against seen, what differs first told whole.
import { computed } from 'vue'
import type { Check } from '@/api/client'
import MoneyAmount from '@/components/MoneyAmount.vue'

const props = defineProps<{ check: Check }>()
const count = (verdict: string) => props.check.claims.filter((claim) => claim.verdict === verdict).length
const summary = computed(() => `${count('holds')} hold, ${count('differs')} differ, ${count('untested')} untested`)
const looks: Record<string, [string, string]> = { holds: ['●', 'success'], differs: ['▲', 'error'], open: ['○', 'info'] }
</script>

<template>
  <section aria-label="Matrix">
    <p role="status" data-test="summary"><strong>{{ summary }}</strong> <span class="quiet">· <MoneyAmount :amount="check.cost" /></span></p>
    <v-table density="compact" class="table cards mt-2">
      <thead><tr><th scope="col">Claim</th><th scope="col">Subject</th><th scope="col">Sheet</th><th scope="col">Engine</th><th scope="col">Verdict</th></tr></thead>
      <tbody>
        <template v-for="(claim, at) in check.claims" :key="at">
          <tr data-test="claim">
            <td><strong>{{ claim.kind }}</strong></td>
            <td data-label="Subject">{{ claim.subject }}</td>
            <td data-label="Sheet">{{ claim.claimed }}</td>
            <td data-label="Engine">{{ claim.seen }}</td>
            <td class="verdict" :class="`text-${looks[claim.verdict]?.[1]}`"><span aria-hidden="true">{{ looks[claim.verdict]?.[0] }}</span> {{ claim.verdict }}</td>
          </tr>
          <tr v-if="claim.verdict === 'differs' && (claim.request || claim.answer)">
            <td colspan="5" class="exchange">
              <template v-if="claim.request"><div class="quiet">request, without the credential</div><pre tabindex="0">{{ claim.request }}</pre></template>
              <template v-if="claim.answer"><div class="quiet">answer</div><pre tabindex="0">{{ claim.answer }}</pre></template>
            </td>
          </tr>
        </template>
      </tbody>
    </v-table>
  </section>
</template>

<style scoped>
.verdict {
  font-weight: 700;
  white-space: nowrap;
}

.exchange {
  padding: 8px 16px 12px !important;
}

pre {
  max-height: 180px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font: 12px/18px var(--mono);
}
</style>
