<script setup lang="ts">
// Voices beside one another by ear, and recognisers by their errors.
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import CompareRecognisers from '@/components/CompareRecognisers.vue'
import CompareVoices from '@/components/CompareVoices.vue'

const route = useRoute()
const router = useRouter()
const of = computed({
  get: () => (route.query['of'] === 'recognisers' ? 'recognisers' : 'voices'),
  set: (value) => void router.replace({ query: value === 'voices' ? {} : { of: value } }),
})
</script>

<template>
  <div class="page">
    <h1>Compare</h1>
    <v-tabs v-model="of" color="primary" density="compact" aria-label="What is compared">
      <v-tab value="voices">Voices</v-tab>
      <v-tab value="recognisers" data-test="of-recognisers">Recognisers</v-tab>
    </v-tabs>
    <CompareRecognisers v-if="of === 'recognisers'" />
    <CompareVoices v-else />
  </div>
</template>
