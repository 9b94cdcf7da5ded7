<script setup lang="ts">
// Who signs in with a password, and what each person may do.
import { computed, onMounted, reactive, ref } from 'vue'
import { api, ask, gone, type Schemas } from '@/api/client'
import ProblemNote from '@/components/ProblemNote.vue'
import TimeAgo from '@/components/TimeAgo.vue'
import { roles } from '@/roles'
import { useSession } from '@/session'
import { useAsync } from '@/useAsync'

const session = useSession()
const people = ref<Schemas['PersonAnswer'][]>([])
const apps = ref<string[]>([])
const form = reactive({ name: '', password: '', role: 'operator', apps: [] as string[] })
const editing = ref(false)
const removing = ref('')
const { error, busy, done, run } = useAsync()

const known = computed(() => people.value.some((person) => person.name === form.name.trim()))
const whole = computed(() => Boolean(form.name.trim()) && (known.value || form.password.length >= 12) && (form.role !== 'app-owner' || form.apps.length > 0))
const of = (name: string) => ({ params: { path: { name } } })
const title = (role: string) => roles.find((one) => one.value === role)?.title ?? role

const load = () =>
  run(async () => {
    const [all, own] = await Promise.all([ask(api.GET('/api/v1/people')), ask(api.GET('/api/v1/apps'))])
    people.value = all.items
    apps.value = own.items.map((app) => app.name).filter((name) => name !== 'console')
  })

function edit(person?: Schemas['PersonAnswer']) {
  Object.assign(form, { name: person?.name ?? '', password: '', role: person?.role ?? 'operator', apps: [...(person?.apps ?? [])] })
  editing.value = true
}

const keep = () =>
  run(async () => {
    const own = form.name.trim() === session.person
    const role = own ? {} : { role: form.role, apps: form.role === 'app-owner' ? form.apps : [] }
    await gone(api.PUT('/api/v1/people/{name}', { ...of(form.name.trim()), body: { ...role, password: form.password || null } }))
    form.password = ''
    editing.value = false
    await load()
  }, 'keep')

const remove = () =>
  run(async () => {
    await gone(api.DELETE('/api/v1/people/{name}', of(removing.value)))
    removing.value = ''
    await load()
  }, 'remove')

onMounted(load)
</script>

<template>
  <div class="page">
    <h1>People</h1>
    <p class="lead quiet">Who signs in to the console with a password, and what each person may do.</p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading people" />
    <v-table v-if="people.length" class="table" density="comfortable">
      <thead><tr><th scope="col">Person</th><th scope="col">Role</th><th scope="col" class="wide">Changed</th><th scope="col"><span class="d-sr-only">Actions</span></th></tr></thead>
      <tbody>
        <tr v-for="person in people" :key="person.name" data-test="person">
          <td>{{ person.name }}<span v-if="person.name === session.person" class="quiet"> (you)</span></td>
          <td>{{ title(person.role) }}<div v-if="person.apps.length" class="quiet small">{{ person.apps.join(', ') }}</div></td>
          <td class="wide"><TimeAgo :time="person.changed" /></td>
          <td class="text-right">
            <v-btn size="small" variant="text" :aria-label="`Change ${person.name}`" @click="edit(person)">Change</v-btn>
            <v-btn v-if="person.name !== session.person" size="small" variant="text" color="error" :aria-label="`Remove ${person.name}`" @click="removing = person.name">Remove</v-btn>
          </td>
        </tr>
      </tbody>
    </v-table>
    <p v-else-if="done" class="quiet">Nobody signs in with a password yet.</p>
    <v-btn v-if="done && !session.readsOnly" class="mt-4" variant="tonal" data-test="add-person" @click="edit()">Add a person</v-btn>
    <dl class="roles quiet">
      <template v-for="role in roles" :key="role.value"><dt>{{ role.title }}</dt><dd>{{ role.meaning }}</dd></template>
    </dl>
    <v-dialog v-model="editing" max-width="480">
      <v-card class="pa-5">
        <h2 class="mt-0">{{ known ? `Change ${form.name}` : 'Add a person' }}</h2>
        <form class="form" @submit.prevent="keep">
          <v-text-field v-model="form.name" label="Name" autocomplete="off" hide-details data-test="person-name" />
          <v-text-field v-model="form.password" :label="known ? 'New password (empty: unchanged)' : 'Password, at least 12 characters'" type="password" autocomplete="new-password" hide-details data-test="person-password" />
          <v-select v-if="form.name.trim() !== session.person" v-model="form.role" :items="roles" item-title="title" item-value="value" label="Role" hide-details data-test="person-role" />
          <v-select v-if="form.role === 'app-owner'" v-model="form.apps" :items="apps" multiple chips label="Apps" hide-details data-test="person-apps" />
          <p v-if="known" class="quiet small">All other sessions of the person end.</p>
          <div class="actions"><v-btn type="submit" color="primary" variant="flat" :disabled="!whole" :loading="busy === 'keep'" data-test="keep-person">Save</v-btn><v-btn variant="text" @click="editing = false">Cancel</v-btn></div>
        </form>
      </v-card>
    </v-dialog>
    <v-dialog :model-value="Boolean(removing)" max-width="420" @update:model-value="removing = ''">
      <v-card class="pa-5">
        <p>Remove {{ removing }}? All sessions of {{ removing }} end.</p>
        <div class="actions"><v-btn color="error" variant="flat" :loading="busy === 'remove'" @click="remove">Remove</v-btn><v-btn variant="text" @click="removing = ''">Keep</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.form {
  display: grid;
  gap: 14px;
}

.roles {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 4px 16px;
  margin-top: 28px;
}

.small {
  font-size: 0.86rem;
}

.actions {
  display: flex;
  gap: 8px;
  margin-top: 8px;
}
</style>
