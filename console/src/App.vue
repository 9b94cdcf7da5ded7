<script setup lang="ts">
import {
  mdiAccountVoice,
  mdiApi,
  mdiChartBar,
  mdiDotsHorizontal,
  mdiEngineOutline,
  mdiFormatListBulleted,
  mdiKeyOutline,
  mdiLogout,
  mdiProgressClock,
  mdiTuneVariant,
  mdiViewDashboardOutline,
  mdiWeatherNight,
  mdiWhiteBalanceSunny,
} from '@mdi/js'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDisplay, useTheme } from 'vuetify'
import { whenSignedOut } from './api/client'
import { useSession } from './session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const theme = useTheme()
const display = useDisplay()
const narrow = computed(() => display.width.value < 600)
const help = ref(false)

const groups = [
  {
    name: 'Use',
    pages: [
      { to: '/', title: 'Sound check', icon: mdiTuneVariant },
      { to: '/voices', title: 'Voices', icon: mdiAccountVoice },
      { to: '/jobs', title: 'Jobs', icon: mdiProgressClock },
    ],
  },
  {
    name: 'Run',
    pages: [
      { to: '/overview', title: 'Overview', icon: mdiViewDashboardOutline },
      { to: '/dispatches', title: 'Dispatches', icon: mdiFormatListBulleted },
      { to: '/usage', title: 'Usage', icon: mdiChartBar },
    ],
  },
  {
    name: 'Set up',
    pages: [
      { to: '/engines', title: 'Engines', icon: mdiEngineOutline },
      { to: '/credentials', title: 'Credentials', icon: mdiKeyOutline },
    ],
  },
]
const pages = groups.flatMap((group) => group.pages)
// On a narrow window the four most used, and the rest behind More.
const near = pages.filter((page) => ['/', '/voices', '/overview', '/dispatches'].includes(page.to))
const far = pages.filter((page) => !near.includes(page))

const dark = computed(() => theme.global.current.value.dark)

function turn() {
  const next = dark.value ? 'light' : 'dark'
  theme.change(next)
  localStorage.setItem('theme', next)
}

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}

whenSignedOut(() => {
  if (!session.person) return
  session.forget()
  void router.push({ name: 'sign-in', query: { to: router.currentRoute.value.fullPath } })
})

function key(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, select, [contenteditable]')
  if (typing || event.ctrlKey || event.metaKey || event.altKey) return
  if (event.key === '/') {
    const field = document.querySelector<HTMLElement>('[data-search] input')
    if (field) {
      event.preventDefault()
      field.focus()
    }
  } else if (event.key === '?') {
    help.value = true
  }
}

onMounted(() => window.addEventListener('keydown', key))
onUnmounted(() => window.removeEventListener('keydown', key))
</script>

<template>
  <v-app>
    <template v-if="session.person">
      <v-navigation-drawer v-if="!narrow" permanent width="212" color="surface" aria-label="Pages">
        <div class="brand"><img src="/mark.svg" alt="" width="30" height="30" /><span>Dispatcher</span></div>
        <template v-for="group in groups" :key="group.name">
          <v-list density="compact" nav :aria-label="group.name">
            <v-list-subheader>{{ group.name }}</v-list-subheader>
            <v-list-item
              v-for="page in group.pages"
              :key="page.to"
              :to="page.to"
              :active="page.to === '/' ? route.path === '/' : route.path.startsWith(page.to)"
              :exact="page.to === '/'"
              :prepend-icon="page.icon"
              :title="page.title"
              color="primary"
              rounded="md"
            />
          </v-list>
        </template>
        <template #append>
          <v-list density="compact" nav aria-label="More">
            <v-list-item href="/api/reference" target="_blank" :prepend-icon="mdiApi" title="API reference" rounded="md" />
            <v-list-item
              tag="button"
              :prepend-icon="dark ? mdiWhiteBalanceSunny : mdiWeatherNight"
              :title="dark ? 'Light' : 'Dark'"
              rounded="md"
              @click="turn"
            />
            <v-list-item tag="button" :prepend-icon="mdiLogout" title="Sign out" rounded="md" @click="leave" />
          </v-list>
          <div class="who quiet">{{ session.person }} · {{ session.version }}</div>
        </template>
      </v-navigation-drawer>
      <v-bottom-navigation v-else grow color="primary" aria-label="Pages">
        <v-btn v-for="page in near" :key="page.to" :to="page.to" :exact="page.to === '/'" class="px-0">
          <v-icon :icon="page.icon" />
          <span class="small">{{ page.title }}</span>
        </v-btn>
        <v-menu location="top">
          <template #activator="{ props }">
            <v-btn v-bind="props" class="px-0"><v-icon :icon="mdiDotsHorizontal" /><span class="small">More</span></v-btn>
          </template>
          <v-list density="compact">
            <v-list-item v-for="page in far" :key="page.to" :to="page.to" :prepend-icon="page.icon" :title="page.title" />
            <v-list-item tag="button" :prepend-icon="mdiLogout" title="Sign out" @click="leave" />
          </v-list>
        </v-menu>
      </v-bottom-navigation>
    </template>
    <v-main>
      <router-view />
    </v-main>
    <v-dialog v-model="help" max-width="360">
      <v-card title="Keys">
        <v-card-text>
          <p><kbd class="code">/</kbd> goes to the search field</p>
          <p><kbd class="code">Space</kbd> plays and stops the sound that has focus</p>
          <p><kbd class="code">?</kbd> shows this list</p>
        </v-card-text>
      </v-card>
    </v-dialog>
  </v-app>
</template>

<style scoped>
.brand {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 18px 16px 6px;
  font-size: 1.15rem;
  font-weight: 700;
}

.who {
  padding: 6px 18px 16px;
  font-size: 0.8rem;
  overflow-wrap: anywhere;
}

.small {
  font-size: 0.68rem;
}
</style>
