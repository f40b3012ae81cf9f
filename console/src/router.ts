import { createRouter, createWebHistory } from 'vue-router'

import { session } from './session'

/** Every page is a deep link that works on reload. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { open: true, title: 'Sign in' } },
    { path: '/welcome', component: () => import('./pages/Welcome.vue'), meta: { open: true, title: 'Choose a password' } },
    { path: '/people', component: () => import('./pages/People.vue'), meta: { title: 'People' } },
    { path: '/account', component: () => import('./pages/Account.vue'), meta: { title: 'Your account' } },
    { path: '/', component: () => import('./pages/Overview.vue'), meta: { title: 'Today' } },
    { path: '/apps', component: () => import('./pages/Apps.vue'), meta: { title: 'Apps' } },
    { path: '/words', component: () => import('./pages/Words.vue'), meta: { title: 'Words' } },
    { path: '/messages', component: () => import('./pages/Messages.vue'), meta: { title: 'Messages' } },
    { path: '/settings', component: () => import('./pages/Settings.vue'), meta: { title: 'Settings' } },
    { path: '/apps/:app/releases', component: () => import('./pages/Releases.vue'), props: true, meta: { title: 'Releases' } },
    { path: '/apps/:app/releases/:version', component: () => import('./pages/Release.vue'), props: true, meta: { title: 'Release' } },
    { path: '/apps/:app/releases/:version/look', component: () => import('./pages/LastLook.vue'), props: (to) => ({ ...to.params, store: to.query.store || undefined }), meta: { title: 'Last look' } },
    { path: '/apps/:app/tracks', component: () => import('./pages/Tracks.vue'), props: true, meta: { title: 'Tracks' } },
    { path: '/apps/:app/tracks/:store/:track', component: () => import('./pages/Track.vue'), props: true, meta: { title: 'Track' } },
    { path: '/apps/:app/live', component: () => import('./pages/Live.vue'), props: true, meta: { title: 'Live' } },
    { path: '/apps/:app/guards', component: () => import('./pages/Guards.vue'), props: true, meta: { title: 'Guards' } },
    { path: '/apps/:app/builds', component: () => import('./pages/Builds.vue'), props: true, meta: { title: 'Builds' } },
    { path: '/apps/:app/builds/:build', component: () => import('./pages/Build.vue'), props: true, meta: { title: 'Build' } },
    { path: '/apps/:app/dossier/pictures', component: () => import('./pages/Pictures.vue'), props: true, meta: { title: 'Pictures' } },
    { path: '/apps/:app/dossier/questions', component: () => import('./pages/Questions.vue'), props: true, meta: { title: 'Questions' } },
    { path: '/apps/:app/dossier/goods', component: () => import('./pages/Goods.vue'), props: true, meta: { title: 'Goods' } },
    { path: '/apps/:app/dossier', component: () => import('./pages/Dossier.vue'), props: true, meta: { title: 'Dossier' } },
    { path: '/apps/:app/signing', component: () => import('./pages/Signing.vue'), props: true, meta: { title: 'Signing' } },
    { path: '/apps/:app/cohorts', component: () => import('./pages/Cohorts.vue'), props: true, meta: { title: 'Cohorts' } },
    { path: '/apps/:app/cohorts/:cohort', component: () => import('./pages/Cohort.vue'), props: true, meta: { title: 'Cohort' } },
    { path: '/apps/:app/reports', component: () => import('./pages/Reports.vue'), props: true, meta: { title: 'Reports' } },
    { path: '/reports/:report', component: () => import('./pages/Report.vue'), props: true, meta: { title: 'Report' } },
    { path: '/trials/:trial', component: () => import('./pages/Trial.vue'), props: true, meta: { title: 'Trial' } },
    { path: '/testers', component: () => import('./pages/Testers.vue'), meta: { title: 'Testers' } },
    { path: '/stores', component: () => import('./pages/Stores.vue'), meta: { title: 'Stores' } },
    { path: '/steps', component: () => import('./pages/Steps.vue'), meta: { title: 'Steps' } },
    { path: '/ladders', component: () => import('./pages/Ladders.vue'), meta: { title: 'Ladders' } },
    { path: '/freezes', component: () => import('./pages/Freezes.vue'), meta: { title: 'Freezes' } },
    { path: '/notices', component: () => import('./pages/Notices.vue'), meta: { title: 'Notices' } },
    { path: '/logbook', component: () => import('./pages/Logbook.vue'), meta: { title: 'Logbook' } },
    { path: '/:path(.*)*', component: () => import('./pages/Nowhere.vue'), meta: { title: 'Not here' } },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  await session.load()
  if (session.person.value?.second_factor_demanded) return to.path === '/account' ? true : '/account'
  return session.person.value ? true : { path: '/sign-in', query: { next: to.fullPath } }
})

router.afterEach((to) => {
  const about = [to.params.version ?? to.params.cohort ?? to.params.track, to.params.app].filter(Boolean).join(' · ')
  document.title = [about, to.meta.title, 'Restless Tide'].filter(Boolean).join(' · ')
})
