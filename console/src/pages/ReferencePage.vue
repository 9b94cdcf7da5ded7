<script setup lang="ts">
// The API reference: every operation of the OpenAPI document, and a form to try it.
import { mdiMagnify } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { fetchRaw } from '@/api/client'
import CodeText from '@/components/CodeText.vue'
import OperationTry from '@/components/OperationTry.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { members, operations, typeOf, type OpenApi, type Operation } from '@/reference'

const route = useRoute()
const description = ref<OpenApi>()
const all = ref<Operation[]>([])
const search = ref('')
const error = ref<unknown>()

const found = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  return all.value.filter((one) => words.every((word) => `${one.summary} ${one.path} ${one.method}`.toLowerCase().includes(word)))
})
/** What apps use comes first. */
const FIRST = ['synthesis and recognition', 'long work', 'catalogue']
const rank = (tag: string) => (FIRST.includes(tag) ? FIRST.indexOf(tag) : FIRST.length)
const groups = computed(() => {
  const tags = [...new Set(found.value.map((one) => one.tag))].sort((one, other) => rank(one) - rank(other) || one.localeCompare(other))
  return tags.map((tag) => ({ tag, operations: found.value.filter((one) => one.tag === tag) }))
})
const chosen = computed(() => all.value.find((one) => `#${one.id}` === route.hash) ?? all.value.find((one) => one.id === 'speak') ?? all.value[0])
const schema = computed(() => Object.values(chosen.value?.body ?? {}).find((one) => one.schema?.$ref)?.schema)
const answer = computed(() => chosen.value?.responses.find((one) => one.schema)?.schema)

onMounted(async () => {
  try {
    description.value = await (await fetchRaw('/api/openapi.json', {})).json()
    all.value = operations(description.value!)
  } catch (caught) {
    error.value = caught
  }
})
</script>

<template>
  <div class="page wide">
    <h1>API reference</h1>
    <p class="lead quiet">All operations of the API. Send a key as <code class="code">Authorization: Bearer KEY</code>; on this page, the session of the console is also accepted. The same as a document: <a href="/api/openapi.json">OpenAPI 3.1</a></p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!description && !error" indeterminate color="primary" aria-label="Loading the reference" />
    <div v-if="description" class="columns">
      <nav aria-label="Operations">
        <v-text-field v-model="search" data-search label="Search" :prepend-inner-icon="mdiMagnify" clearable hide-details class="mb-2" @click:clear="search = ''" />
        <section v-for="group in groups" :key="group.tag">
          <h2 class="tag">{{ group.tag }}</h2>
          <ul>
            <li v-for="one in group.operations" :key="one.id">
              <router-link :to="{ hash: `#${one.id}` }" class="entry" :class="{ here: one.id === chosen?.id }" :aria-current="one.id === chosen?.id ? 'true' : undefined">{{ one.summary }}</router-link>
            </li>
          </ul>
        </section>
        <p v-if="!groups.length" class="quiet">No operation matches.</p>
      </nav>
      <article v-if="chosen" :key="chosen.id" data-test="operation">
        <h2>{{ chosen.summary }}</h2>
        <p class="code address"><strong>{{ chosen.method }}</strong> {{ chosen.path }}</p>
        <p v-if="chosen.description"><CodeText :text="chosen.description" /></p>
        <template v-if="chosen.parameters.length">
          <h3>Parameters</h3>
          <v-table density="compact" class="table">
            <thead><tr><th scope="col">Name</th><th scope="col">In</th><th scope="col">Type</th><th scope="col">Meaning</th></tr></thead>
            <tbody><tr v-for="one in chosen.parameters" :key="`${one.in} ${one.name}`"><td class="code">{{ one.name }}</td><td>{{ one.in }}</td><td>{{ typeOf(description, one.schema) }}</td><td class="meaning"><CodeText :text="one.description ?? ''" /></td></tr></tbody>
          </v-table>
        </template>
        <template v-if="chosen.body">
          <h3>Body</h3>
          <p class="code">{{ Object.keys(chosen.body).join(', ') }}</p>
          <v-table v-if="schema" density="compact" class="table">
            <thead><tr><th scope="col">Member</th><th scope="col">Type</th><th scope="col">Meaning</th></tr></thead>
            <tbody><tr v-for="one in members(description, schema)" :key="one.name"><td class="code">{{ one.name }}<span v-if="one.required" class="quiet"> (required)</span></td><td>{{ one.type }}</td><td class="meaning"><CodeText :text="one.description ?? ''" /></td></tr></tbody>
          </v-table>
        </template>
        <h3>Answers</h3>
        <v-table density="compact" class="table">
          <thead><tr><th scope="col">Status</th><th scope="col">Meaning</th><th scope="col">Type</th></tr></thead>
          <tbody><tr v-for="one in chosen.responses" :key="one.status"><td class="code">{{ one.status }}</td><td class="meaning"><CodeText :text="one.description ?? ''" /></td><td class="code">{{ one.types.join(', ') }}</td></tr></tbody>
        </v-table>
        <v-table v-if="answer" density="compact" class="table mt-3">
          <thead><tr><th scope="col">Member</th><th scope="col">Type</th><th scope="col">Meaning</th></tr></thead>
          <tbody><tr v-for="one in members(description, answer)" :key="one.name"><td class="code">{{ one.name }}</td><td>{{ one.type }}</td><td class="meaning"><CodeText :text="one.description ?? ''" /></td></tr></tbody>
        </v-table>
        <h3>Try it</h3>
        <OperationTry :document="description" :operation="chosen" />
      </article>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 240px minmax(0, 1fr);
  gap: 28px;
}

nav {
  position: sticky;
  top: 0;
  max-height: 100vh;
  overflow-y: auto;
  padding: 6px 4px 20px;
}

nav ul {
  list-style: none;
  margin: 0;
  padding: 0;
}

.page .tag {
  margin: 12px 0 2px;
  font-size: 0.86rem;
  font-weight: 400;
}

.entry {
  display: block;
}

article > h2:first-child {
  margin-top: 6px;
}

h3 {
  margin: 22px 0 8px;
  font-size: 1rem;
}

.address {
  overflow-wrap: anywhere;
}

.table :deep(td) {
  padding-top: 6px;
  padding-bottom: 6px;
}

.table :deep(td:not(.meaning):not(.code)) {
  white-space: nowrap;
}

.table :deep(.meaning) {
  width: 60%;
}

@media (max-width: 800px) {
  .table :deep(td:not(.meaning):not(.code)),
  .table :deep(td) {
    white-space: normal;
    overflow-wrap: anywhere;
  }

  .columns {
    grid-template-columns: minmax(0, 1fr);
  }

  nav {
    position: static;
    max-height: 40vh;
  }
}
</style>
