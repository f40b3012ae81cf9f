<script setup lang="ts">
import { api, told } from '../api'
import AppIcon from '../components/AppIcon.vue'
import EmptyState from '../components/EmptyState.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useLoading } from '../loading'

const { data: apps, problem, load } = useLoading(() => told(api.GET('/v1/apps')))
useLive(load)
const NAMES: Record<string, string> = { android: 'Android', ios: 'iOS', desktop: 'desktop' }
</script>

<template>
  <div class="page-head"><h1>Apps</h1></div>
  <ProblemNote :problem="problem" />
  <ul v-if="apps?.length" class="plain-list apps">
    <li v-for="app in apps" :key="app.name" class="card-plain">
      <AppIcon :app="app" :size="56" />
      <div>
        <h2><RouterLink :to="`/apps/${app.name}/releases`">{{ app.title }}</RouterLink></h2>
        <p class="soft small-print">{{ Object.entries(app.identifiers).map(([platform, id]) => `${id} for ${NAMES[platform] ?? platform}`).join(' · ') }}</p>
        <p class="small-print">{{ app.berths.length ? `At ${app.berths.map((berth) => berth.store_title).join(', ')}` : 'At no store yet' }}</p>
        <p class="row-gap small-print"><RouterLink :to="`/apps/${app.name}/builds`">Builds</RouterLink><RouterLink :to="`/apps/${app.name}/cohorts`">Testing</RouterLink><RouterLink :to="`/apps/${app.name}/reports`">Field reports</RouterLink><RouterLink :to="`/apps/${app.name}/signing`">Signing</RouterLink></p>
      </div>
    </li>
  </ul>
  <EmptyState v-else-if="apps" title="No app is registered yet"><RouterLink to="/stores">Register one and open its place at a store</RouterLink>.</EmptyState>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.apps { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(26rem, 100%), 1fr)); gap: 1rem; }
.apps li { display: grid; grid-template-columns: auto 1fr; gap: 1rem; align-items: start; }
p { margin: 0.2rem 0 0; overflow-wrap: anywhere; }
</style>
