<script setup lang="ts">
import { onMounted, ref } from 'vue'
import type { Allowance } from '@/allowances'
import { api, ask, type Schemas } from '@/api/client'
import AllowanceBar from '@/components/AllowanceBar.vue'
import ProblemNote from '@/components/ProblemNote.vue'
import { useAsync } from '@/useAsync'

const apps = ref<Schemas['AppAnswer'][]>([])
const allowances = ref<Allowance[]>([])
const { error, done, run } = useAsync()

const of = (app: string) => allowances.value.filter((one) => one.app === app)

onMounted(() =>
  run(async () => {
    const [all, limits] = await Promise.all([ask(api.GET('/api/v1/apps')), ask(api.GET('/api/v1/allowances'))])
    apps.value = all.items
    allowances.value = limits.items
  }),
)
</script>

<template>
  <div class="page">
    <h1>Apps</h1>
    <p class="lead quiet">Programs that call the service, and how much each may use. To add one: <code>dispatcher app add NAME</code></p>
    <ProblemNote :error="error" />
    <v-progress-linear v-if="!done" indeterminate color="primary" aria-label="Loading apps" />
    <ul class="apps boxes">
      <li v-for="app in apps" :key="app.name" data-test="app">
        <div>
          <router-link :to="`/apps/${app.name}`">{{ app.title || app.name }}</router-link>
          <div class="quiet small"><span class="code">{{ app.name }}</span><template v-if="app.default_voice"> · {{ app.default_voice }}</template><template v-if="app.site"> · {{ app.site }} only</template></div>
          <div v-if="app.rehearsal" class="small">◇ rehearsal: no engine is called</div>
        </div>
        <div class="bars">
          <AllowanceBar v-for="allowance in of(app.name)" :key="allowance.id" :allowance="allowance" />
          <span v-if="!of(app.name).length" class="quiet">No allowance: use is not limited.</span>
        </div>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.apps > li {
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.6fr);
  gap: 12px 28px;
}

.bars {
  display: grid;
  gap: 12px;
}

.small {
  font-size: 0.86rem;
  overflow-wrap: anywhere;
}

@media (max-width: 700px) {
  .apps > li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
