<script setup lang="ts">
// A line of text in which backticks enclose code.
const props = defineProps<{ text: string }>()
const parts = () => props.text.split('`').map((text, index) => ({ text, code: index % 2 === 1 }))
</script>

<template>
  <template v-for="(part, index) in parts()" :key="index"><code v-if="part.code" class="code">{{ part.text }}</code><template v-else>{{ part.text }}</template></template>
</template>
