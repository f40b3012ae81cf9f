<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type App, told } from '../api'
import AppIcon from '../components/AppIcon.vue'
import ConfirmButton from '../components/ConfirmButton.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RetireButton from '../components/RetireButton.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'

const { data: apps, problem, load } = useLoading(() => told(api.GET('/v1/apps')))
useLive(load)
const doing = useDoing()
const editing = ref('')
const title = ref('')

function edit(app: App): void {
  editing.value = app.name
  title.value = app.title
}

async function save(app: string): Promise<void> {
  if (await doing.run(async () => void (await told(api.PATCH('/v1/apps/{app}', { params: { path: { app } }, body: { title: title.value } }))))) {
    editing.value = ''
    await load()
  }
}

async function remove(app: string): Promise<void> {
  if (await doing.run(async () => void (await told(api.DELETE('/v1/apps/{app}', { params: { path: { app } } }))))) await load()
}
function retired(app: App): Promise<unknown> {
  return told(api.DELETE('/v1/apps/{app}/retirement', { params: { path: { app: app.name } } })).then(load)
}

async function retire(app: App): Promise<void> {
  await doing.run(async () => {
    await told(api.PUT('/v1/apps/{app}/retirement', { params: { path: { app: app.name } }, body: { reason: '' } }))
    await load()
  }, `${app.title} is retired`, () => retired(app))
}

const restore = (app: App) => doing.run(() => retired(app), `${app.title} is in use again`)
const inUse = computed(() => apps.value?.filter((app) => !app.retired_at) ?? [])
const outOfUse = computed(() => apps.value?.filter((app) => app.retired_at) ?? [])
const NAMES: Record<string, string> = { android: 'Android', ios: 'iOS', desktop: 'desktop' }
</script>

<template>
  <div class="page-head"><h1>Apps</h1></div>
  <ProblemNote :problem="problem ?? doing.problem.value" />
  <ul v-if="inUse.length" class="plain-list apps">
    <li v-for="app in inUse" :key="app.name" class="card-plain">
      <AppIcon :app="app" :size="56" />
      <div>
        <form v-if="editing === app.name" class="row-gap" @submit.prevent="save(app.name)"><label class="row-gap">Title <input v-model="title" class="form-control form-control-sm" required maxlength="200" /></label><BButton data-needs="arrange-apps" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="editing = ''">Cancel</BButton></form>
        <h2 v-else><RouterLink :to="`/apps/${app.name}/releases`">{{ app.title }}</RouterLink></h2>
        <p class="soft small-print">{{ Object.entries(app.identifiers).map(([platform, id]) => `${id} for ${NAMES[platform] ?? platform}`).join(' · ') }}</p>
        <p class="small-print">{{ app.berths.length ? `At ${app.berths.map((berth) => berth.store_title).join(', ')}` : 'At no store yet' }}</p>
        <p class="row-gap small-print"><RouterLink :to="`/apps/${app.name}/builds`">Builds</RouterLink><RouterLink :to="`/apps/${app.name}/cohorts`">Testing</RouterLink><RouterLink :to="`/apps/${app.name}/reports`">Field reports</RouterLink><RouterLink :to="`/apps/${app.name}/signing`">Signing</RouterLink><BButton data-needs="arrange-apps" size="sm" variant="link" class="edit" @click="edit(app)">Change the title</BButton><ConfirmButton data-needs="arrange-apps" v-if="!app.berths.length" said="Remove" consequence="It is no longer registered." sure="Remove it" :disabled="doing.busy.value" @do="remove(app.name)" /><span v-else data-needs="arrange-apps"><RetireButton :what="app.title" :ask="() => told(api.GET('/v1/apps/{app}/retirement', { params: { path: { app: app.name } } }))" :disabled="doing.busy.value" @do="retire(app)" /></span></p>
      </div>
    </li>
  </ul>
  <EmptyState v-else-if="apps && !outOfUse.length" title="No app is registered yet"><RouterLink to="/stores">Register one and open its place at a store</RouterLink>.</EmptyState>
  <p v-else-if="!problem && !apps" class="soft" role="status">Loading …</p>
  <section v-if="outOfUse.length" class="card-plain out" aria-labelledby="out">
    <h2 id="out">Retired</h2>
    <ul class="plain-list"><li v-for="app in outOfUse" :key="app.name" class="row-gap"><RouterLink :to="`/apps/${app.name}/releases`">{{ app.title }}</RouterLink><span class="soft small-print">since <Moment :at="app.retired_at!" /></span><BButton data-needs="arrange-apps" size="sm" variant="link" :disabled="doing.busy.value" @click="restore(app)">Take {{ app.title }} into use again</BButton></li></ul>
  </section>
</template>

<style scoped>
.apps { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(26rem, 100%), 1fr)); gap: 1rem; }
.apps li { display: grid; grid-template-columns: auto 1fr; gap: 1rem; align-items: start; }
.edit { padding-block: 0; }
.out { margin-top: 1rem; }
p { margin: 0.2rem 0 0; overflow-wrap: anywhere; }
</style>
