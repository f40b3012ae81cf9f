<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type App, type Line, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing } from '../loading'
import { changes, onTheDay } from '../telling'

const PAGE = 60
const route = useRoute()
const router = useRouter()
const lines = shallowRef<Line[] | null>(null)
const more = ref(false)
const apps = ref<App[]>([])
const app = ref(String(route.query.app ?? ''))
const by = ref(String(route.query.by ?? ''))
const find = ref(String(route.query.find ?? ''))
const since = ref(String(route.query.since ?? ''))
const wish = computed(() => ({ app: app.value || null, by: by.value, find: find.value, since: since.value ? new Date(`${since.value}T00:00`).toISOString() : null }))
const narrowed = computed(() => Boolean(by.value || find.value || since.value))
const file = computed(() => {
  const asked = Object.entries(wish.value).filter((entry): entry is [string, string] => Boolean(entry[1]))
  return `/v1/logbook/export?${new URLSearchParams(asked).toString()}`
})
const verified = ref('')
const doing = useDoing()
const checking = useDoing()

async function page(before: number | null): Promise<Line[]> {
  return told<Line[]>(api.GET('/v1/logbook', { params: { query: { ...wish.value, before, limit: PAGE } } }))
}

async function load(): Promise<void> {
  await doing.run(async () => {
    const newest = await page(null)
    more.value = newest.length === PAGE
    lines.value = newest
  })
}

async function further(): Promise<void> {
  await doing.run(async () => {
    const older = await page(lines.value?.at(-1)?.id ?? null)
    more.value = older.length === PAGE
    lines.value = [...(lines.value ?? []), ...older]
  })
}

async function verify(): Promise<void> {
  await checking.run(async () => {
    const found = await told(api.GET('/v1/logbook/verification'))
    verified.value = found.first_broken == null ? `✓ All ${found.lines} lines follow from one another; nothing was altered.` : `✕ Line ${found.first_broken} does not follow from the one before.`
  })
}

let typing: ReturnType<typeof setTimeout> | undefined
watch([app, by, find, since], () => {
  clearTimeout(typing)
  typing = setTimeout(() => {
    const asked = { app: app.value, by: by.value, find: find.value, since: since.value }
    void router.replace({ query: Object.fromEntries(Object.entries(asked).filter(([, value]) => value)) })
    void load()
  }, 250)
})
useLive(async () => {
  if ((lines.value?.length ?? 0) <= PAGE) await load()
})
void told(api.GET('/v1/apps')).then((found) => (apps.value = found), () => undefined)
</script>

<template>
  <div class="page-head">
    <div class="row-gap">
      <h1>Logbook</h1>
      <label><span class="visually-hidden">App</span>
        <select v-model="app" class="form-select"><option value="">every app</option><option v-for="known in apps" :key="known.name" :value="known.name">{{ known.title }}</option></select>
      </label>
    </div>
    <div class="row-gap"><span role="status">{{ verified }}</span><a class="btn btn-link" :href="file" download>Export as CSV</a><BButton variant="outline-primary" :disabled="checking.busy.value" @click="verify">Check the chain</BButton></div>
  </div>
  <form class="row-gap filters" role="search" aria-label="Narrow the logbook down" @submit.prevent>
    <label>Who <input v-model="by" class="form-control form-control-sm" placeholder="name, store, the desk" maxlength="200" /></label>
    <label>Words <input v-model="find" type="search" class="form-control form-control-sm" placeholder="halt, marram, a reason" maxlength="400" /></label>
    <label>Since <input v-model="since" type="date" class="form-control form-control-sm" /></label>
  </form>
  <ProblemNote :problem="doing.problem.value ?? checking.problem.value" />
  <div v-if="lines?.length" class="card-plain scroll-x" role="region" aria-label="Lines" tabindex="0">
    <table class="table-plain">
      <thead><tr><th>When</th><th>Who</th><th>What</th><th>Before → after</th><th>Why</th></tr></thead>
      <tbody>
        <tr v-for="line in lines" :key="line.id">
          <td class="when"><time :datetime="line.at">{{ onTheDay(line.at) }}</time><br /><span class="soft small-print">line {{ line.id }}</span></td>
          <td>{{ line.who }}</td>
          <td><strong>{{ line.act }}</strong><br /><span class="soft small-print"><template v-if="line.app">{{ line.app }} · </template>{{ line.subject }}</span></td>
          <td class="small-print"><div v-for="step in changes(line)" :key="step">{{ step }}</div></td>
          <td>{{ line.reason }}</td>
        </tr>
      </tbody>
    </table>
    <BButton v-if="more" variant="link" :disabled="doing.busy.value" @click="further">Older lines</BButton>
  </div>
  <EmptyState v-else-if="lines && narrowed" title="No line fits">Take a word away, or choose an earlier day.</EmptyState>
  <EmptyState v-else-if="lines" title="The logbook is empty">Everything anybody does here leaves a line that cannot be altered.</EmptyState>
</template>

<style scoped>
.filters { margin-bottom: 1rem; align-items: end; }
.filters label { display: grid; gap: 0.2rem; }
.when { white-space: nowrap; }
td { min-width: 7rem; }
</style>
