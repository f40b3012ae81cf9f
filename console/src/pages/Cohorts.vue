<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Build, type Cohort, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Explained from '../components/Explained.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SeatBar from '../components/SeatBar.vue'
import TrialSheetForm from '../components/TrialSheetForm.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'

const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data, problem, load } = useLoading(async () => {
  const [cohorts, builds] = await Promise.all([
    told<Cohort[]>(api.GET('/v1/apps/{app}/cohorts', { params: { path } })),
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path, query: { limit: 40 } } })),
  ])
  return { cohorts, builds }
})
useLive(load, (change) => change.app === props.app || change.app === null)
const doing = useDoing()

const KINDS = { crew: 'staff', guest: 'invited', 'walk-in': 'anyone with the link' }
const making = ref(false)
const inUse = computed(() => data.value?.cohorts.filter((cohort) => !cohort.retired_at) ?? [])
const retired = computed(() => data.value?.cohorts.filter((cohort) => cohort.retired_at) ?? [])
const handing = ref<string | null>(null)
const made = reactive<{ name: string; kind: 'crew' | 'guest' | 'walk-in' }>({ name: '', kind: 'crew' })
const counted = (invited: Record<string, number>) => Object.entries(invited).map(([state, count]) => `${count} ${state}`).join(', ') || 'nobody yet'

async function make(): Promise<void> {
  const done = await doing.run(() => told(api.POST('/v1/apps/{app}/cohorts', { params: { path }, body: { ...made } })), `${made.name} is made`)
  if (!done) return
  making.value = false
  made.name = ''
  await load()
}

async function handed(): Promise<void> {
  handing.value = null
  await load()
}
</script>

<template>
  <AppHead title="Testing">
    <BButton v-if="data?.cohorts.length" data-needs="hand-out" variant="primary" @click="handing = handing === null ? '' : null">Hand a build to testers</BButton>
    <BButton data-needs="keep-testers" :variant="data?.cohorts.length ? 'outline-primary' : 'primary'" @click="making = !making">Make a cohort</BButton>
  </AppHead>
  <p class="soft intro">People who test are put into <Explained word="cohort" said="cohorts" />. A build that is handed to one of them at a store is a <Explained word="trial" />.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <form v-if="making" class="card-plain row-gap form" @submit.prevent="make">
    <label>Name <input v-model="made.name" class="form-control" required placeholder="crew" pattern="[a-z0-9][a-z0-9\-]{0,39}" title="small letters, digits and hyphens" /></label>
    <label>Kind <select v-model="made.kind" class="form-select"><option v-for="(what, kind) in KINDS" :key="kind" :value="kind">{{ kind }}: {{ what }}</option></select></label>
    <BButton data-needs="keep-testers" type="submit" variant="primary" :disabled="doing.busy.value">Make it</BButton>
  </form>
  <template v-if="data">
    <TrialSheetForm v-if="handing !== null" :key="handing" :app="app" :cohorts="inUse" :builds="data.builds" :chosen="handing" @done="handed" @leave="handing = null" />
    <div v-if="inUse.length" class="stack">
      <section v-for="cohort in inUse" :key="cohort.name" class="card-plain cohort" :aria-label="cohort.name">
        <header class="row-gap">
          <h2><RouterLink :to="`/apps/${app}/cohorts/${cohort.name}`">{{ cohort.name }}</RouterLink></h2>
          <span class="soft">{{ cohort.kind }}: {{ KINDS[cohort.kind] }}</span>
          <strong>{{ cohort.testers.toLocaleString('en') }} testers</strong>
          <RouterLink v-if="cohort.reports_open" :to="`/apps/${app}/reports?cohort=${cohort.name}`">{{ cohort.reports_open }} open reports</RouterLink>
          <span class="end row-gap">
            <RouterLink class="btn btn-sm btn-outline-primary" :to="`/apps/${app}/cohorts/${cohort.name}`">{{ cohort.testers ? 'Testers' : 'Add testers' }}</RouterLink>
            <BButton data-needs="hand-out" size="sm" variant="outline-primary" @click="handing = cohort.name">Hand a build to them</BButton>
          </span>
        </header>
        <div v-if="cohort.at.length" class="stores">
          <div v-for="entry in cohort.at" :key="entry.store" class="at">
            <strong>{{ entry.store_title }}</strong>
            <SeatBar :seats="entry.seats" :taken="entry.taken" :left="entry.left" :per-build="entry.per_build" />
            <span class="soft small-print">{{ entry.by_itself ? 'every new build goes to them automatically' : entry.review_first ? 'the store reviews first' : '' }}</span>
            <ul class="plain-list">
              <li v-for="trial in cohort.running.filter((row) => row.store === entry.store)" :key="trial.id">
                <RouterLink :to="`/trials/${trial.id}`">{{ trial.build_label }}</RouterLink> <PhaseWord :phase="trial.state" /> <span v-if="!trial.confirmed" class="soft">◌ not confirmed</span> <span class="soft small-print"><Moment :at="trial.changed_at" /></span><br />
                <span class="soft small-print">{{ counted(trial.invited) }}</span>
                <span v-if="trial.reason" class="small-print alarm"> ✕ {{ trial.reason }}</span>
                <span v-else-if="trial.stuck" class="small-print care"> ■ {{ trial.stuck }} not reached</span>
              </li>
              <li v-if="!cohort.running.some((row) => row.store === entry.store)" class="soft small-print">nothing handed out</li>
            </ul>
          </div>
        </div>
        <p v-else class="soft">At no store yet; open its page to put it at one.</p>
      </section>
    </div>
    <EmptyState v-else-if="!making && !retired.length" title="No cohorts yet">Make one for your own staff first: a crew gets a build as soon as the store is ready, without review.</EmptyState>
    <p v-if="retired.length" class="soft row-gap retired">Retired: <RouterLink v-for="cohort in retired" :key="cohort.name" :to="`/apps/${app}/cohorts/${cohort.name}`">{{ cohort.name }}</RouterLink></p>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.cohort { display: grid; gap: 0.75rem; grid-template-columns: minmax(0, 1fr); }
.end { margin-left: auto; }
.retired { margin-top: 1rem; }
.form { align-items: end; margin-bottom: 1rem; }
.form label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.stores { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(19rem, 100%), 1fr)); gap: 0.75rem 1.5rem; }
.at { display: grid; gap: 0.25rem; align-content: start; border-top: 1px solid var(--line); padding-top: 0.6rem; }
.alarm { color: var(--alarm); }
.care { color: var(--care); }
</style>
