<script setup lang="ts">
// What went wrong, why, and what to do next.
import { computed } from 'vue'
import { CallError } from '@/api/client'

const props = defineProps<{ error: unknown }>()
const problem = computed(() => (props.error instanceof CallError ? props.error.problem : { title: String(props.error) }))
</script>

<template>
  <v-alert v-if="error" type="error" variant="tonal" border="start" role="alert" class="my-3">
    <strong>{{ problem.title }}</strong>
    <div v-if="problem.detail">{{ problem.detail }}</div>
    <div v-if="problem.nearest?.length">Similar: {{ problem.nearest.join(', ') }}</div>
    <div v-if="problem.help" class="mt-1">{{ problem.help }}</div>
    <router-link v-if="problem.dispatch" :to="`/dispatches/${problem.dispatch}`">Show the attempts</router-link>
  </v-alert>
</template>
