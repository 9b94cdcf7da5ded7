<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ProblemNote from '@/components/ProblemNote.vue'
import { useSession } from '@/session'

const session = useSession()
const router = useRouter()
const route = useRoute()
const way = ref<'key' | 'password'>('key')
const person = ref('')
const password = ref('')
const key = ref('')
const error = ref<unknown>()
const busy = ref(false)

async function enter() {
  busy.value = true
  error.value = undefined
  try {
    await session.signIn(way.value === 'key' ? { key: key.value.trim() } : { person: person.value, password: password.value })
    await router.push(typeof route.query['to'] === 'string' && route.query['to'].startsWith('/') ? route.query['to'] : '/')
  } catch (caught) {
    error.value = caught
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="door">
    <v-card width="420" class="pa-6">
      <div class="d-flex align-center ga-3 mb-1"><img src="/mark.svg" width="36" height="36" alt="" /><h1 class="title">Dispatcher</h1></div>
      <p class="quiet mb-5">Sign in to try voices and to manage the gateway.</p>
      <v-btn-toggle v-model="way" mandatory density="compact" class="mb-5" color="primary" aria-label="How to sign in">
        <v-btn value="key">Operator key</v-btn>
        <v-btn value="password">Name and password</v-btn>
      </v-btn-toggle>
      <form class="d-flex flex-column ga-4" @submit.prevent="enter">
        <v-text-field v-if="way === 'key'" v-model="key" label="Operator key" type="password" autocomplete="off" data-test="key" autofocus />
        <template v-else>
          <v-text-field v-model="person" label="Name" autocomplete="username" data-test="person" />
          <v-text-field v-model="password" label="Password" type="password" autocomplete="current-password" data-test="password" />
        </template>
        <v-btn type="submit" color="primary" variant="flat" size="large" :loading="busy" data-test="enter">Sign in</v-btn>
      </form>
      <ProblemNote :error="error" />
      <p class="quiet mt-5 hint">
        The first operator key is in the file <span class="code">operator.key</span> of the data folder; the demo writes one to
        <span class="code">demo.env</span>.
      </p>
    </v-card>
  </div>
</template>

<style scoped>
.door {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: 16px;
}

.title {
  font-size: 1.5rem;
}

.hint {
  font-size: 0.88rem;
}
</style>
