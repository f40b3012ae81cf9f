<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, type App, type Found, told } from '../api'
import { OF_APP, WITHIN } from '../pages'

const props = defineProps<{ apps: App[] }>()
const router = useRouter()
const PAGES: Found[] = [
  { kind: 'page', title: 'Today', about: 'what needs you', place: '/' },
  { kind: 'page', title: 'Steps', about: 'to do by hand at a store', place: '/steps' },
  { kind: 'page', title: 'Testers', about: 'everybody who tests', place: '/testers' },
  { kind: 'page', title: 'Stores', about: 'connections, rules, drills', place: '/stores' },
  { kind: 'page', title: 'Logbook', about: 'who did what, when and why', place: '/logbook' },
  { kind: 'page', title: 'Notices', about: 'who is subscribed to what', place: '/notices' },
  { kind: 'page', title: 'Settings', about: 'appearance, keys', place: '/settings' },
  { kind: 'page', title: 'People', about: 'who works here, and what each may do', place: '/people' },
  { kind: 'page', title: 'Your account', about: 'password, second factor, sessions, tokens', place: '/account' },
  { kind: 'page', title: 'Messages', about: 'what you did since you opened the console', place: '/messages' },
  { kind: 'page', title: 'Words', about: 'what they mean', place: '/words' },
]
const ACTS: Found[] = [
  { kind: 'act', title: 'Connect a store', about: 'with its connection file', place: '/stores' },
  { kind: 'act', title: 'Register an app', about: 'and open its place at a store', place: '/stores' },
  { kind: 'act', title: 'Drill a halt', about: 'affecting no release', place: '/stores' },
]

const text = ref('')
const matches = ref<Found[]>([])
const chosen = ref(0)
const open = ref(false)
const box = ref<HTMLInputElement>()
let asked = 0

const local = computed(() => {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (!words.length) return []
  const pages = [...PAGES, ...ACTS, ...props.apps.flatMap((app) => [...OF_APP, ...WITHIN].map(([page, title]) => ({ kind: 'page', title: `${app.title}: ${title}`, about: '', place: `/apps/${app.name}/${page}` })))]
  return pages.filter((page) => words.every((word) => `${page.title} ${page.about}`.toLowerCase().includes(word))).slice(0, 6)
})
const all = computed(() => [...matches.value, ...local.value])

let typing: ReturnType<typeof setTimeout> | undefined
watch(text, (words) => {
  clearTimeout(typing)
  chosen.value = 0
  open.value = Boolean(words.trim())
  if (!words.trim()) {
    matches.value = []
    return
  }
  typing = setTimeout(async () => {
    const mine = ++asked
    const found = await told(api.GET('/v1/search', { params: { query: { text: words } } })).catch(() => [])
    if (mine === asked) matches.value = found
  }, 150)
})

function go(hit: Found | undefined): void {
  if (!hit) return
  leave()
  void router.push(hit.place)
}

function leave(): void {
  open.value = false
  text.value = ''
  box.value?.blur()
}

function move(by: number): void {
  if (all.value.length) chosen.value = (chosen.value + by + all.value.length) % all.value.length
}

function onKey(event: KeyboardEvent): void {
  const at = event.target as HTMLElement
  if (event.key !== '/' || event.ctrlKey || event.metaKey || event.altKey || at.closest('input, textarea, select, [contenteditable]') || document.querySelector('.modal.show')) return
  event.preventDefault()
  box.value?.focus()
}
onMounted(() => document.addEventListener('keydown', onKey))
onUnmounted(() => document.removeEventListener('keydown', onKey))
</script>

<template>
  <div class="find">
    <input
      ref="box" v-model="text" type="search" class="form-control form-control-sm" role="combobox" aria-label="Find anything" placeholder="Find anything  /"
      autocomplete="off" maxlength="200" :aria-expanded="open && all.length > 0" aria-controls="found" aria-autocomplete="list" :aria-activedescendant="open && all.length ? `found-${chosen}` : undefined"
      @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)" @keydown.enter.prevent="go(all[chosen])" @keydown.esc="leave" @blur="open = false" @focus="open = Boolean(text.trim())"
    />
    <ul v-show="open && all.length" id="found" role="listbox" aria-label="Found" class="plain-list">
      <li v-for="(hit, place) in all" :id="`found-${place}`" :key="hit.kind + hit.place + hit.title" role="option" :aria-selected="place === chosen" :class="{ chosen: place === chosen }" @mousedown.prevent="go(hit)" @mousemove="chosen = place">
        <span class="kind">{{ hit.kind }}</span><span class="title">{{ hit.title }}</span><span class="soft about">{{ hit.about }}</span>
      </li>
    </ul>
    <p v-if="open && !all.length" class="none soft" role="status">Nothing holds all of these words.</p>
  </div>
</template>

<style scoped>
.find { position: relative; flex: 0 1 17rem; min-width: 9rem; }
.find ul, .none { position: absolute; z-index: 30; top: calc(100% + 0.35rem); right: 0; width: min(34rem, 92vw); max-height: 70vh; overflow-y: auto; margin: 0; padding: 0.35rem; background: var(--card); border: 1px solid var(--line); border-radius: 0.75rem; box-shadow: 0 0.6rem 1.6rem rgb(0 0 0 / 18%); }
.none { padding: 0.8rem 1rem; }
li { display: grid; grid-template-columns: 4.2rem minmax(0, auto) minmax(0, 1fr); gap: 0.6rem; align-items: baseline; padding: 0.45rem 0.6rem; border-radius: 0.5rem; cursor: pointer; }
li.chosen { background: color-mix(in srgb, var(--accent) 14%, transparent); outline: 2px solid var(--accent); outline-offset: -2px; }
.kind { font-size: 0.78rem; color: var(--soft); }
.title { font-weight: 600; overflow-wrap: anywhere; }
.about { font-size: 0.875rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
@media (max-width: 620px) { .find { position: static; } .find ul, .none { left: 1rem; right: 1rem; width: auto; top: 3.2rem; } .about { display: none; } }
</style>
