// Who is signed in.
import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api, ask } from './api/client'

export const useSession = defineStore('session', () => {
  const person = ref<string | null>(null)
  const version = ref('')
  let loaded: Promise<void> | undefined

  async function read() {
    const answer = await ask(api.GET('/api/v1/session'))
    person.value = answer.person ?? null
    version.value = answer.version
  }

  const load = () => (loaded ??= read().catch(() => void (loaded = undefined)))

  async function signIn(body: { person?: string; password?: string; key?: string }) {
    const answer = await ask(api.POST('/api/v1/session', { body }))
    person.value = answer.person ?? null
  }

  async function signOut() {
    await api.DELETE('/api/v1/session')
    person.value = null
  }

  const forget = () => void (person.value = null)
  return { person, version, load, signIn, signOut, forget }
})
