<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, type App, type Build, type Release, type Store, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Explained from '../components/Explained.vue'
import HaltAll from '../components/HaltAll.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReviewFigures from '../components/ReviewFigures.vue'
import ReadinessSheet from '../components/ReadinessSheet.vue'
import TideStaff from '../components/TideStaff.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { percent } from '../telling'

const props = defineProps<{ app: string }>()
const router = useRouter()
const path = { app: props.app }
const PAGE = 40
const limit = ref(PAGE)
const { data, problem, load } = useLoading(async () => {
  const [releases, builds, app, stores] = await Promise.all([
    told<Release[]>(api.GET('/v1/apps/{app}/releases', { params: { path, query: { limit: Math.min(limit.value + 1, 500) } } })),
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path } })),
    told<App>(api.GET('/v1/apps/{app}', { params: { path } })),
    told<Store[]>(api.GET('/v1/stores')),
  ])
  return { releases: releases.slice(0, limit.value), more: releases.length > limit.value, builds, app, stores }
})
useLive(load, (change) => change.app === props.app || change.app === null)

const drafting = ref(false)
const version = ref('')
const notes = ref('')
const chosen = reactive<Record<string, string>>({})
const needsGoAhead = ref(false)
const doing = useDoing()

const versions = computed(() => {
  const drafted = new Set(data.value?.releases.map((release) => release.version))
  return [...new Set(data.value?.builds.map((build) => build.version))].filter((known) => !drafted.has(known))
})
const berths = computed(() => data.value?.app.berths.filter((berth) => berth.state === 'open') ?? [])
const fitting = (store: string) =>
  (data.value?.builds ?? []).filter((build) => build.version === version.value && build.consignments.some((entry) => entry.store === store && entry.state === 'ready'))

watch(version, () => {
  for (const berth of berths.value) chosen[berth.store] = fitting(berth.store)[0]?.id ?? ''
})

/** Before the first launch nothing is more useful than what the stores still want. */
const everLaunched = computed(() => data.value?.releases.some((release) => release.legs.some((leg) => leg.launched_at)) ?? false)

function begin(): void {
  version.value = versions.value[0] ?? ''
  drafting.value = true
}

async function draft(): Promise<void> {
  const legs = Object.fromEntries(Object.entries(chosen).filter(([, build]) => build).map(([store, build]) => [store, { build, needs_go_ahead: needsGoAhead.value }]))
  const done = await doing.run(() => told(api.POST('/v1/apps/{app}/releases', { params: { path }, body: { version: version.value, legs, notes: notes.value ? { en: notes.value } : {} } })), `${version.value} is drafted`)
  if (done) await router.push(`/apps/${props.app}/releases/${version.value}`)
}
</script>

<template>
  <AppHead title="Releases">
    <HaltAll v-if="everLaunched" :app="app" :title="data?.app.title" />
    <BButton data-needs="prepare" v-if="!drafting" variant="primary" :disabled="!versions.length" @click="begin">Draft a release</BButton>
  </AppHead>
  <p class="soft intro">A <Explained word="release" /> has one <Explained word="leg" /> for each store it goes to, with a <Explained word="rollout" /> of its own there.</p>
  <ProblemNote :problem="problem" />
  <form v-if="drafting" class="card-plain stack draft" @submit.prevent="draft">
    <h2>A new release</h2>
    <label>Version
      <select v-model="version" class="form-select" required><option v-for="known in versions" :key="known">{{ known }}</option></select>
    </label>
    <label v-for="berth in berths" :key="berth.store">{{ berth.store_title }}
      <select v-model="chosen[berth.store]" class="form-select">
        <option value="">not at this store</option>
        <option v-for="build in fitting(berth.store)" :key="build.id" :value="build.id">{{ build.label }} · {{ build.id }}</option>
      </select>
      <span v-if="!fitting(berth.store).length" class="soft small-print">No build of {{ version }} is ready at {{ berth.store_title }}.</span>
    </label>
    <label>What is new, in English <textarea v-model="notes" class="form-control" rows="2" /></label>
    <label class="check"><input v-model="needsGoAhead" type="checkbox" class="form-check-input" /> Launch only when I give the go-ahead</label>
    <ProblemNote :problem="doing.problem.value" />
    <div class="row-gap">
      <BButton data-needs="prepare" type="submit" variant="primary" :disabled="doing.busy.value || !Object.values(chosen).some(Boolean)">Draft it</BButton>
      <BButton variant="link" @click="drafting = false">Cancel</BButton>
    </div>
  </form>

  <template v-if="data">
    <ReadinessSheet v-if="!everLaunched" :app="app" />
    <ul v-if="data.releases.length" class="plain-list stack">
      <li v-for="release in data.releases" :key="release.version" class="card-plain release">
        <div class="title"><h2><RouterLink :to="`/apps/${app}/releases/${release.version}`">{{ release.version }}</RouterLink></h2><span class="soft small-print">drafted <Moment :at="release.created_at" /></span></div>
        <div v-for="leg in release.legs" :key="leg.place" class="leg">
          <TideStaff small :stages="leg.ladder" :share="leg.share" :phase="leg.phase" :confirmed="leg.confirmed" />
          <span><strong>{{ leg.place_title }}</strong><br /><PhaseWord :phase="leg.phase" /> <template v-if="leg.launched_at">at {{ percent(leg.share) }}</template></span>
        </div>
      </li>
    </ul>
    <EmptyState v-else-if="!drafting" title="No releases yet">
      <template v-if="versions.length">A build is at hand: draft its release above.</template>
      <template v-else>First <RouterLink :to="`/apps/${app}/builds`">push a build</RouterLink> to a store; a release is made of builds.</template>
    </EmptyState>
    <BButton v-if="data.more" variant="link" @click="((limit += PAGE), load())">Earlier releases</BButton>
    <ReviewFigures v-if="data.releases.length" :app="app" />
  </template>
</template>

<style scoped>
.draft { max-width: 40rem; margin-bottom: 1rem; }
label { display: grid; gap: 0.25rem; }
.check { display: flex; gap: 0.5rem; align-items: center; }
.release { display: grid; grid-template-columns: minmax(12rem, 1fr) repeat(2, minmax(11rem, 15rem)); gap: 0.75rem 1.5rem; align-items: center; }
.title { display: grid; }
.leg { display: flex; gap: 0.75rem; align-items: center; }
@media (max-width: 760px) { .release { grid-template-columns: 1fr; } }
</style>
