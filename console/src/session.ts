// Who is signed in.
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask, type Schemas } from './api/client'

export const useSession = defineStore('session', () => {
  const person = ref<string | null>(null)
  const role = ref<string | null>(null)
  const version = ref('')
  let loaded: Promise<void> | undefined

  async function read() {
    const answer = await ask(api.GET('/api/v1/session'))
    take(answer)
    version.value = answer.version
  }

  function take(answer: Schemas['SessionAnswer']) {
    person.value = answer.person ?? null
    role.value = answer.role ?? null
  }

  /** An auditor changes nothing. */
  const readsOnly = computed(() => role.value === 'auditor')

  const load = () => (loaded ??= read().catch(() => void (loaded = undefined)))

  async function signIn(body: { person?: string; password?: string; key?: string }) {
    take(await ask(api.POST('/api/v1/session', { body })))
  }

  async function signOut() {
    await api.DELETE('/api/v1/session')
    person.value = null
  }

  const forget = () => void (person.value = null)
  return { person, role, readsOnly, version, load, signIn, signOut, forget }
})
