<script setup lang="ts">
// An amount with the digits that count; in full on hover. Columns pass the digits that all of their amounts share.
import type { Amount } from '@/api/client'
import { money } from '@/format'

defineProps<{ amount?: Amount | null; digits?: number }>()
</script>

<template>
  <span :title="amount ? `${amount.amount} ${amount.currency}` : undefined">{{ money(amount, digits) }}</span>
</template>
