<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type App, told } from './api'
import { follow, liveState, unfollow } from './live'
import { session } from './session'

const route = useRoute()
const router = useRouter()
const apps = ref<App[]>([])
const dark = ref(localStorage.getItem('theme') ? localStorage.getItem('theme') === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)
const app = computed(() => (route.params.app as string | undefined) ?? localStorage.getItem('app') ?? apps.value[0]?.name)
const appPages = ['releases', 'builds', 'cohorts', 'reports', 'signing']

watch(dark, (on) => document.documentElement.setAttribute('data-bs-theme', on ? 'dark' : 'light'), { immediate: true })
watch(
  () => route.params.app as string | undefined,
  (name) => {
    if (name) localStorage.setItem('app', name)
  },
)
watch(
  session.person,
  async (person) => {
    if (!person) return unfollow()
    follow()
    apps.value = await told(api.GET('/v1/apps')).catch(() => [])
    const kept = localStorage.getItem('app')
    if (kept && !apps.value.some((known) => known.name === kept)) localStorage.removeItem('app')
  },
  { immediate: true },
)

function flip(): void {
  dark.value = !dark.value
  localStorage.setItem('theme', dark.value ? 'dark' : 'light')
}

async function signOut(): Promise<void> {
  await session.signOut().catch(() => session.ended())
  await router.push('/sign-in')
}
</script>

<template>
  <a class="visually-hidden-focusable" href="#page">To the page</a>
  <header v-if="session.person.value" class="bar">
    <RouterLink to="/" class="name"><img src="/mark.svg" alt="" width="26" height="26" /> Restless Tide</RouterLink>
    <nav aria-label="Pages">
      <RouterLink to="/" exact-active-class="here">Overview</RouterLink>
      <template v-if="app">
        <RouterLink v-for="page in appPages" :key="page" :to="`/apps/${app}/${page}`" :class="{ here: route.path.startsWith(`/apps/${app}/${page}`) }">{{ page[0]!.toUpperCase() + page.slice(1) }}</RouterLink>
      </template>
      <RouterLink to="/testers" active-class="here">Testers</RouterLink>
      <RouterLink to="/stores" active-class="here">Stores</RouterLink>
      <RouterLink to="/steps" active-class="here">Steps</RouterLink>
      <RouterLink to="/notices" active-class="here">Notices</RouterLink>
      <RouterLink to="/logbook" active-class="here">Logbook</RouterLink>
    </nav>
    <div class="aside">
      <span class="live" role="status" :title="liveState === 'following' ? 'Changes appear automatically' : 'The line to the desk is cut; it is taken up again automatically'">
        <span aria-hidden="true">{{ liveState === 'following' ? '●' : '○' }}</span> {{ liveState === 'following' ? 'live' : 'reconnecting' }}
      </span>
      <button type="button" class="quiet" @click="flip">{{ dark ? 'Light' : 'Dark' }}</button>
      <button type="button" class="quiet" :title="`Signed in as ${session.person.value.name}`" @click="signOut">Sign out</button>
    </div>
  </header>
  <main id="page" tabindex="-1"><RouterView :key="route.path" /></main>
</template>

<style scoped>
.bar { display: flex; flex-wrap: wrap; gap: 0.25rem 1.25rem; align-items: center; padding: 0.6rem clamp(1rem, 3vw, 2rem); border-bottom: 1px solid var(--line); background: var(--card); }
.name { display: flex; gap: 0.55rem; align-items: center; font-weight: 650; color: var(--ink); text-decoration: none; }
nav { display: flex; flex-wrap: wrap; gap: 0.1rem 0.9rem; }
nav a { color: var(--soft); text-decoration: none; padding: 0.4rem 0; border-bottom: 2px solid transparent; }
nav a.here { color: var(--ink); border-color: var(--accent); font-weight: 600; }
.aside { margin-left: auto; display: flex; flex-wrap: wrap; gap: 0.25rem 0.9rem; align-items: center; font-size: 0.875rem; }
.live { color: var(--soft); }
.quiet { background: none; border: 0; color: var(--accent); padding: 0.35rem 0; }
main { padding: 1.4rem clamp(1rem, 3vw, 2rem) 3rem; max-width: 1500px; margin: 0 auto; outline: none; }
</style>
