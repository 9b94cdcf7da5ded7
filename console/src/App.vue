<script setup lang="ts">
import {
  mdiAccountCircleOutline,
  mdiAccountGroupOutline,
  mdiAccountVoice,
  mdiApi,
  mdiApplicationOutline,
  mdiBellOutline,
  mdiBookAlphabet,
  mdiChartBar,
  mdiChevronDown,
  mdiChevronRight,
  mdiClosedCaptionOutline,
  mdiDotsHorizontal,
  mdiEngineOutline,
  mdiFormatListBulleted,
  mdiForumOutline,
  mdiKeyOutline,
  mdiLogout,
  mdiProgressClock,
  mdiRoutes,
  mdiScaleBalance,
  mdiTextBoxOutline,
  mdiTuneVariant,
  mdiViewDashboardOutline,
  mdiWeatherNight,
  mdiWhiteBalanceSunny,
} from '@mdi/js'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDisplay, useTheme } from 'vuetify'
import { whenSignedOut } from './api/client'
import { canUse } from './roles'
import { useSession } from './session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const theme = useTheme()
const display = useDisplay()
const narrow = computed(() => display.width.value < 600)
const help = ref(false)

const all = [
  {
    name: 'Use',
    pages: [
      { to: '/', title: 'Sound check', icon: mdiTuneVariant },
      { to: '/captions', title: 'Captions', icon: mdiClosedCaptionOutline },
      { to: '/exchange', title: 'Exchange', icon: mdiForumOutline },
      { to: '/voices', title: 'Voices', icon: mdiAccountVoice },
      { to: '/compare', title: 'Compare', icon: mdiScaleBalance },
      { to: '/transcripts', title: 'Transcripts', icon: mdiTextBoxOutline },
      { to: '/jobs', title: 'Jobs', icon: mdiProgressClock },
    ],
  },
  {
    name: 'Run',
    pages: [
      { to: '/overview', title: 'Overview', icon: mdiViewDashboardOutline },
      { to: '/dispatches', title: 'Dispatches', icon: mdiFormatListBulleted },
      { to: '/usage', title: 'Usage', icon: mdiChartBar },
      { to: '/alerts', title: 'Alerts', icon: mdiBellOutline },
    ],
  },
  {
    name: 'Set up',
    pages: [
      { to: '/engines', title: 'Engines', icon: mdiEngineOutline },
      { to: '/credentials', title: 'Credentials', icon: mdiKeyOutline },
      { to: '/routes', title: 'Routes', icon: mdiRoutes },
      { to: '/apps', title: 'Apps', icon: mdiApplicationOutline },
      { to: '/people', title: 'People', icon: mdiAccountGroupOutline },
      { to: '/vocabulary', title: 'Vocabulary', icon: mdiBookAlphabet },
    ],
  },
]
const groups = computed(() => all.map((group) => ({ ...group, pages: group.pages.filter((page) => canUse(session.role, page.to)) })).filter((group) => group.pages.length))
const pages = computed(() => groups.value.flatMap((group) => group.pages))
// On a narrow window the four most used, and the rest behind More.
const near = computed(() => pages.value.filter((page) => ['/', '/voices', '/overview', '/dispatches'].includes(page.to)))
const far = computed(() => pages.value.filter((page) => !near.value.includes(page)))

const isHere = (to: string) => (to === '/' ? route.path === '/' : route.path.startsWith(to))

/** Groups of the rail that are folded; kept for the next visit. */
const folded = ref(new Set<string>(JSON.parse(localStorage.getItem('folded') ?? '[]')))

function fold(name: string) {
  const next = new Set(folded.value)
  if (!next.delete(name)) next.add(name)
  folded.value = next
  localStorage.setItem('folded', JSON.stringify([...next]))
}

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
      <v-navigation-drawer v-if="!narrow" permanent width="212" color="surface" tag="nav" aria-label="Pages">
        <router-link to="/" class="brand"><img src="/mark.svg" alt="" width="28" height="28" /><span>Dispatcher</span></router-link>
        <section v-for="(group, at) in groups" :key="group.name" class="group">
          <button type="button" class="fold" :aria-expanded="!folded.has(group.name)" :aria-controls="`pages-${at}`" @click="fold(group.name)">
            {{ group.name }}<v-icon :icon="folded.has(group.name) ? mdiChevronRight : mdiChevronDown" size="16" />
          </button>
          <ul v-show="!folded.has(group.name)" :id="`pages-${at}`">
            <li v-for="page in group.pages" :key="page.to">
              <router-link :to="page.to" class="entry" :class="{ here: isHere(page.to) }" :aria-current="isHere(page.to) ? 'page' : undefined">
                <v-icon :icon="page.icon" size="20" />{{ page.title }}
              </router-link>
            </li>
          </ul>
        </section>
        <template #append>
          <v-menu location="top start">
            <template #activator="{ props }">
              <button type="button" v-bind="props" class="entry account" data-test="account"><v-icon :icon="mdiAccountCircleOutline" size="20" /><span>{{ session.person }}</span></button>
            </template>
            <v-list density="compact">
              <v-list-item to="/api/reference" :prepend-icon="mdiApi" title="API reference" />
              <v-list-item :prepend-icon="dark ? mdiWhiteBalanceSunny : mdiWeatherNight" :title="dark ? 'Light theme' : 'Dark theme'" @click="turn" />
              <v-list-item :prepend-icon="mdiLogout" title="Sign out" @click="leave" />
              <v-divider />
              <v-list-item :subtitle="`Version ${session.version}`" />
            </v-list>
          </v-menu>
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
            <v-list-item to="/api/reference" :prepend-icon="mdiApi" title="API reference" />
            <v-list-item :prepend-icon="dark ? mdiWhiteBalanceSunny : mdiWeatherNight" :title="dark ? 'Light theme' : 'Dark theme'" @click="turn" />
            <v-list-item :prepend-icon="mdiLogout" title="Sign out" @click="leave" />
          </v-list>
        </v-menu>
      </v-bottom-navigation>
    </template>
    <v-main>
      <p v-if="session.readsOnly" class="reads-only" role="note">You are an auditor: you read everything, and change nothing.</p>
      <router-view />
    </v-main>
    <v-dialog v-model="help" max-width="360">
      <v-card title="Keyboard shortcuts">
        <v-card-text>
          <p><kbd class="code">/</kbd> moves to the search field</p>
          <p><kbd class="code">Space</kbd> plays or stops the audio that has focus</p>
          <p><kbd class="code">?</kbd> shows these keys</p>
        </v-card-text>
      </v-card>
    </v-dialog>
  </v-app>
</template>

<style scoped>
.reads-only {
  margin: 0;
  padding: 8px 28px;
  border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}

.brand {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 14px 16px 8px;
  font-size: 1.15rem;
  font-weight: 700;
  color: inherit;
  text-decoration: none;
}

.group {
  padding: 2px 8px 6px;
}

.group ul {
  list-style: none;
  margin: 0;
  padding: 0;
}

.fold,
.account {
  border: 0;
  background: none;
  color: inherit;
  font-family: inherit;
  cursor: pointer;
}

.fold {
  display: flex;
  align-items: center;
  justify-content: space-between;
  width: 100%;
  padding: 5px 8px;
  font-size: 0.8rem;
  opacity: 0.78;
}

.entry {
  display: flex;
  align-items: center;
  gap: 12px;
  min-height: 34px;
  padding: 5px 10px;
  font-size: 0.94rem;
}

.here {
  color: rgb(var(--v-theme-primary));
}

@media (max-height: 760px) {
  .brand {
    padding-block: 8px 2px;
  }

  .group {
    padding-block: 0 2px;
  }

  .fold {
    padding-block: 2px;
  }

  .entry {
    min-height: 28px;
    padding-block: 2px;
  }

  .account {
    margin-block: 4px;
  }
}

.account {
  width: calc(100% - 16px);
  margin: 8px;
  overflow-wrap: anywhere;
  text-align: left;
}

.small {
  font-size: 0.68rem;
}
</style>
