import { createRouter, createWebHistory } from 'vue-router'
import Changes from './pages/Changes.vue'
import Entries from './pages/Entries.vue'
import Findings from './pages/Findings.vue'
import Fragments from './pages/Fragments.vue'
import Live from './pages/Live.vue'
import Overview from './pages/Overview.vue'
import Purge from './pages/Purge.vue'
import Routes from './pages/Routes.vue'
import Savings from './pages/Savings.vue'
import SignIn from './pages/SignIn.vue'
import Store from './pages/Store.vue'
import Tags from './pages/Tags.vue'
import { useSession } from './session'

// Pages in the order of work; a page stands here only when it works.
export const rail = [
  { group: 'See', pages: [{ path: '/', label: 'Overview' }, { path: '/live', label: 'Live' }, { path: '/routes', label: 'Routes' }, { path: '/savings', label: 'Savings' }, { path: '/findings', label: 'Findings' }] },
  { group: 'Stored', pages: [{ path: '/store', label: 'Store' }, { path: '/entries', label: 'Entries' }, { path: '/tags', label: 'Tags' }, { path: '/fragments', label: 'Fragments' }] },
  { group: 'Change', pages: [{ path: '/purge', label: 'Purge' }, { path: '/changes', label: 'Changes' }] },
]

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Overview, meta: { title: 'Overview' } },
    { path: '/live', component: Live, meta: { title: 'Live' } },
    { path: '/findings', component: Findings, meta: { title: 'Findings' } },
    { path: '/routes', component: Routes, meta: { title: 'Routes' } },
    { path: '/savings', component: Savings, meta: { title: 'Savings' } },
    { path: '/store', component: Store, meta: { title: 'Store' } },
    { path: '/entries', component: Entries, meta: { title: 'Entries' } },
    { path: '/tags', component: Tags, meta: { title: 'Tags' } },
    { path: '/fragments', component: Fragments, meta: { title: 'Fragments' } },
    { path: '/changes', component: Changes, meta: { title: 'Changes' } },
    { path: '/purge', component: Purge, meta: { title: 'Purge' } },
    { path: '/sign-in', component: SignIn, meta: { title: 'Sign in', open: true } },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

router.beforeEach(async (to, from) => {
  const session = useSession()
  if (!session.asked) await session.ask().catch(() => undefined)
  if (!session.who && !to.meta.open) return { path: '/sign-in', query: { to: to.fullPath } }
  // The time range goes along from page to page.
  if (from.query.since && !to.query.since && !to.meta.open) return { ...to, query: { ...to.query, since: from.query.since } }
})

router.afterEach((to) => {
  document.title = `${to.meta.title} · Gerastic`
})
