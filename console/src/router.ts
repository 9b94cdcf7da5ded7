import { createRouter, createWebHistory } from 'vue-router'
import { canUse, firstPage } from './roles'
import { useSession } from './session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/', name: 'sound-check', component: () => import('./pages/SoundCheck.vue'), meta: { title: 'Sound check' } },
    { path: '/captions', name: 'captions', component: () => import('./pages/CaptionsPage.vue'), meta: { title: 'Captions' } },
    { path: '/exchange', name: 'exchange', component: () => import('./pages/ExchangePage.vue'), meta: { title: 'Exchange' } },
    { path: '/transcripts', name: 'transcripts', component: () => import('./pages/TranscriptsPage.vue'), meta: { title: 'Transcripts' } },
    { path: '/transcripts/:id', name: 'transcript', component: () => import('./pages/TranscriptPage.vue'), meta: { title: 'Transcript' } },
    { path: '/vocabulary', name: 'vocabulary', component: () => import('./pages/VocabularyPage.vue'), meta: { title: 'Vocabulary' } },
    { path: '/voices', name: 'voices', component: () => import('./pages/VoicesPage.vue'), meta: { title: 'Voices' } },
    { path: '/compare', name: 'compare', component: () => import('./pages/ComparePage.vue'), meta: { title: 'Compare' } },
    { path: '/jobs', name: 'jobs', component: () => import('./pages/JobsPage.vue'), meta: { title: 'Jobs' } },
    { path: '/jobs/prompts', name: 'prompt-sets', component: () => import('./pages/PromptSetsPage.vue'), meta: { title: 'Prompt sets' } },
    { path: '/jobs/prompts/:name', name: 'prompt-set', component: () => import('./pages/PromptSetPage.vue'), meta: { title: 'Prompt set' } },
    { path: '/jobs/:id', name: 'job', component: () => import('./pages/JobPage.vue'), meta: { title: 'Job' } },
    { path: '/overview', name: 'overview', component: () => import('./pages/OverviewPage.vue'), meta: { title: 'Overview' } },
    { path: '/dispatches', name: 'dispatches', component: () => import('./pages/DispatchesPage.vue'), meta: { title: 'Dispatches' } },
    { path: '/dispatches/:id', name: 'dispatch', component: () => import('./pages/DispatchPage.vue'), meta: { title: 'Dispatch' } },
    { path: '/engines', name: 'engines', component: () => import('./pages/EnginesPage.vue'), meta: { title: 'Engines' } },
    { path: '/engines/:name', name: 'engine', component: () => import('./pages/EnginePage.vue'), meta: { title: 'Engine' } },
    { path: '/credentials', name: 'credentials', component: () => import('./pages/CredentialsPage.vue'), meta: { title: 'Credentials' } },
    { path: '/routes', name: 'routes', component: () => import('./pages/RoutesPage.vue'), meta: { title: 'Routes' } },
    { path: '/apps', name: 'apps', component: () => import('./pages/AppsPage.vue'), meta: { title: 'Apps' } },
    { path: '/apps/:name', name: 'app', component: () => import('./pages/AppPage.vue'), meta: { title: 'App' } },
    { path: '/people', name: 'people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/alerts', name: 'alerts', component: () => import('./pages/AlertsPage.vue'), meta: { title: 'Alerts' } },
    { path: '/usage', name: 'usage', component: () => import('./pages/UsagePage.vue'), meta: { title: 'Usage' } },
    { path: '/api/reference', name: 'reference', component: () => import('./pages/ReferencePage.vue'), meta: { title: 'API reference', open: true } },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./pages/NowherePage.vue'), meta: { title: 'Page not found', open: true } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  await session.load()
  if (!to.meta.open && !session.person) return { name: 'sign-in', query: to.fullPath === '/' ? {} : { to: to.fullPath } }
  if (to.name === 'sign-in' && session.person) return firstPage(session.role)
  if (session.person && to.path === '/' && !canUse(session.role, '/')) return firstPage(session.role)
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} · Dispatcher`
})
