<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type App, type Right, told } from './api'
import AppIcon from './components/AppIcon.vue'
import FindBox from './components/FindBox.vue'
import Toast from './components/Toast.vue'
import { follow, liveState, unfollow } from './live'
import { forgetMessages, messages } from './messages'
import { OF_APP } from './pages'
import { place } from './place'
import { released } from './pointer'
import './preferences'
import { may, session } from './session'
import { RIGHTS } from './states'

const route = useRoute()
const router = useRouter()
const apps = ref<App[]>([])
const page = ref<HTMLElement>()
const announced = ref('')
const PAGES = computed(() => ([['/', 'Today'], ['/apps', 'Apps'], ['/testers', 'Testers'], ['/stores', 'Stores'], ['/logbook', 'Logbook'], ['/settings', 'Settings']] as const).filter(([path]) => path !== '/testers' || may('see-testers', true)))
const ofApp = computed(() => OF_APP.filter(([list]) => list !== 'reports' || may('see-testers', here.value?.name)))
/** What hides the acts that the one who is signed in may not do here: each says by data-needs which right it takes. */
const DESK_WIDE: readonly string[] = ['arrange-desk', 'manage-people']
const over = (right: Right) => (DESK_WIDE.includes(right) ? true : here.value?.name)
const hidden = computed(() => (Object.keys(RIGHTS) as Right[]).filter((right) => !may(right, over(right))).map((right) => `[data-needs='${right}'] { display: none !important; }`).join('\n'))
/** Whoever only reads here is told so once, above the page. */
const reads = computed(() => (here.value && !may('prepare', here.value.name) && !may('keep-testers', here.value.name) ? session.person.value?.may : null))
/** A page that stands under another one of the first row. */
const UNDER: Record<string, string> = { '/steps': '/', '/notices': '/settings', '/people': '/settings', '/account': '/settings', '/ladders': '/settings', '/freezes': '/settings' }
/** What the page itself says of its place, where its address names nothing but an id. */
const own = computed(() => (route.params.trial ?? route.params.report ?? route.params.build ? place.value : null))
const here = computed(() => apps.value.find((known) => known.name === (route.params.app ?? own.value?.app)))
const part = computed(() => (route.params.app ? (route.path.split('/')[3] ?? 'releases') : (own.value?.list ?? 'releases')))
const trail = computed(() => {
  const of = OF_APP.find(([page]) => page === part.value)
  const said = own.value?.said ?? String(route.params.version ?? route.params.cohort ?? (route.params.track ? `${String(route.params.store)}/${String(route.params.track)}` : ''))
  return here.value && of && said ? { to: `/apps/${here.value.name}/${part.value}`, list: of[1], said } : null
})

function isHere(path: string): boolean {
  const at = UNDER[route.path] ?? route.path
  return path === '/' ? at === '/' : path === '/apps' ? at === '/apps' || here.value !== undefined : at.startsWith(path)
}

watch(
  session.person,
  async (person, before) => {
    if (!person || person.second_factor_demanded) {
      if (before) forgetMessages()
      return unfollow()
    }
    follow()
    await loadApps()
  },
  { immediate: true },
)
watch(
  () => route.path,
  async (path, before) => {
    place.value = null
    if (here.value === undefined && route.params.app) void loadApps()
    if (!before || path === before) return
    await nextTick()
    announced.value = document.title
    if (!document.activeElement || document.activeElement === document.body) page.value?.focus({ preventScroll: true })
  },
)

async function loadApps(): Promise<void> {
  const found = await told(api.GET('/v1/apps')).catch(() => [])
  await released()
  apps.value = found
}

function turn(event: Event): void {
  void router.push(`/apps/${(event.target as HTMLSelectElement).value}/${part.value}`)
}

async function signOut(): Promise<void> {
  await session.signOut().catch(() => session.ended())
  await router.push('/sign-in')
}
</script>

<template>
  <a class="visually-hidden-focusable" href="#page">To the page</a>
  <header v-if="session.person.value">
    <div class="bar">
      <RouterLink to="/" class="name" aria-label="Restless Tide, today"><img src="/mark.svg" alt="" width="26" height="26" /> <span class="word">Restless Tide</span></RouterLink>
      <nav aria-label="The desk">
        <RouterLink v-for="[path, said] in PAGES" :key="path" :to="path" :class="{ here: isHere(path) }" :aria-current="isHere(path) ? 'page' : undefined">{{ said }}</RouterLink>
      </nav>
      <FindBox :apps="apps" />
      <div class="aside">
        <span class="live" role="status" :title="liveState === 'following' ? 'Changes appear automatically' : 'The connection to the desk is cut; it is tried again automatically'">
          <span aria-hidden="true">{{ liveState === 'following' ? '●' : '○' }}</span> {{ liveState === 'following' ? 'live' : 'reconnecting' }}
        </span>
        <RouterLink v-if="messages.length" to="/messages" title="What you did since you opened the console">Messages</RouterLink>
        <RouterLink to="/words" title="What the words mean">Words</RouterLink>
        <RouterLink to="/account" :title="`Signed in as ${session.person.value.name}: ${session.person.value.may}`">{{ session.person.value.name }}</RouterLink>
        <button type="button" class="quiet" @click="signOut">Sign out</button>
      </div>
    </div>
    <div v-if="here" class="bar of-app">
      <AppIcon :app="here" :size="30" />
      <label v-if="apps.length > 1"><span class="visually-hidden">App</span>
        <select class="form-select form-select-sm switch" :value="here.name" @change="turn"><option v-for="known in apps" :key="known.name" :value="known.name">{{ known.title }}</option></select>
      </label>
      <strong v-else>{{ here.title }}</strong>
      <nav :aria-label="here.title">
        <RouterLink v-for="[list, said] in ofApp" :key="list" :to="`/apps/${here.name}/${list}`" :class="{ here: list === part }" :aria-current="list === part ? (trail ? 'true' : 'page') : undefined">{{ said }}</RouterLink>
      </nav>
      <nav v-if="trail" aria-label="Where this is" class="trail"><RouterLink :to="trail.to">{{ trail.list }}</RouterLink> <span aria-hidden="true">›</span> <span aria-current="page">{{ trail.said }}</span></nav>
    </div>
  </header>
  <p v-if="reads" class="reads">You are {{ reads }}, so nothing can be changed here. <RouterLink to="/people">Who may</RouterLink></p>
  <component :is="'style'">{{ hidden }}</component>
  <main id="page" ref="page" tabindex="-1"><RouterView :key="route.path" /></main>
  <Toast v-if="session.person.value" />
  <p class="visually-hidden" role="status" aria-live="polite">{{ announced }}</p>
</template>

<style scoped>
header { background: var(--card); border-bottom: 1px solid var(--line); }
.bar { display: flex; flex-wrap: wrap; gap: 0.25rem 1rem; align-items: center; padding: 0.5rem clamp(1rem, 3vw, 2rem); }
.of-app { border-top: 1px solid var(--line); padding-block: 0.3rem; background: color-mix(in srgb, var(--water) 12%, var(--card)); gap: 0.25rem 0.9rem; }
.switch { font-weight: 650; width: auto; min-width: 9rem; }
.name { display: flex; gap: 0.55rem; align-items: center; font-weight: 650; color: var(--ink); text-decoration: none; }
nav { display: flex; flex-wrap: wrap; gap: 0.1rem 0.9rem; }
nav a { color: var(--soft); text-decoration: none; padding: 0.4rem 0; border-bottom: 2px solid transparent; }
nav a.here { color: var(--ink); border-color: var(--accent); font-weight: 600; }
.trail { margin-left: auto; gap: 0.45rem; align-items: center; font-size: 0.875rem; }
.trail a { color: var(--accent); text-decoration: underline; }
.aside { display: flex; flex-wrap: wrap; gap: 0.25rem 0.7rem; align-items: center; font-size: 0.875rem; }
.find { margin-left: auto; }
.live { color: var(--soft); }
.quiet { background: none; border: 0; color: var(--accent); padding: 0.35rem 0; }
.reads { margin: 0; padding: 0.35rem clamp(1rem, 3vw, 2rem); background: var(--care-soft); font-size: 0.9rem; }
main { padding: 1.2rem clamp(1rem, 3vw, 2rem) 3rem; max-width: 1500px; margin: 0 auto; outline: none; }
@media (max-width: 620px) {
  .bar { gap: 0.1rem 0.8rem; padding-block: 0.35rem; flex-wrap: wrap; }
  .word, .aside, .trail span { display: none; }
  .find { flex: 1; margin-left: 0; order: 0; }
  .bar nav { flex: 1 0 100%; flex-wrap: nowrap; gap: 0 1rem; overflow-x: auto; scrollbar-width: none; white-space: nowrap; font-size: 0.95rem; order: 1; }
  .bar .trail { flex: 0 0 auto; order: 0; }
  .trail a::before { content: '‹ '; }
}
</style>
