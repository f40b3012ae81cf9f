<script setup lang="ts">
import { computed } from 'vue'

import { api, type BerthRow, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import HaltAll from '../components/HaltAll.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TideStaff from '../components/TideStaff.vue'
import { useLive } from '../live'
import { useLoading } from '../loading'
import { LEG_PART_WAY } from '../states'
import { percent } from '../telling'

const { data, problem, load } = useLoading(() => told(api.GET('/v1/overview')))
useLive(load)

const WEIGHTS = ['blocker', 'caution', 'note']
const calls = computed(() =>
  [
    ...(data.value?.rows ?? []).flatMap((row) => row.calls.map((call) => ({ ...call, where: `${row.app_title} at ${row.store_title}` }))),
    ...(data.value?.desk_calls ?? []).map((call) => ({ ...call, where: 'The desk' })),
    ...(data.value?.store_calls ?? []).map((entry) => ({ ...entry.call, where: entry.store_title })),
  ].sort((one, other) => WEIGHTS.indexOf(one.weight) - WEIGHTS.indexOf(other.weight)),
)
const apps = computed(() => {
  const byApp = new Map<string, BerthRow[]>()
  for (const row of data.value?.rows ?? []) byApp.set(row.app, [...(byApp.get(row.app) ?? []), row])
  return [...byApp.values()]
})
const MARKS: Record<string, string> = { blocker: '▶', caution: '■', note: '◇' }
</script>

<template>
  <ProblemNote :problem="problem" />
  <div v-if="data" class="stack">
    <section v-if="data.rows.length" class="card-plain needs" aria-labelledby="needs">
      <div class="page-head">
        <h1 id="needs">{{ calls.length ? `${calls.length} thing${calls.length === 1 ? '' : 's'} need${calls.length === 1 ? 's' : ''} you` : 'Nothing needs you' }}</h1>
        <HaltAll />
      </div>
      <ul class="plain-list">
        <li v-for="call in calls" :key="call.where + call.said" :class="call.weight">
          <span class="shape" aria-hidden="true">{{ MARKS[call.weight] }}</span>
          <span class="where">{{ call.where }}</span>
          <RouterLink :to="call.place">{{ call.said }}</RouterLink>
        </li>
      </ul>
    </section>
    <EmptyState v-else-if="!data.stores" title="No store is connected yet">First <RouterLink to="/stores">connect a store</RouterLink> with the connection file it handed out.</EmptyState>
    <EmptyState v-else title="No app has a berth yet">Now <RouterLink to="/stores">register an app and open its place at a store</RouterLink>.</EmptyState>

    <section v-if="apps.length" class="apps" aria-label="Every app at every store">
      <article v-for="rows in apps" :key="rows[0]!.app" class="card-plain">
        <h2>{{ rows[0]!.app_title }}</h2>
        <RouterLink v-for="row in rows" :key="row.store" class="berth" :to="row.version ? `/apps/${row.app}/releases/${row.version}` : `/apps/${row.app}/releases`">
          <TideStaff small :stages="row.ladder" :share="row.share" :phase="row.phase ?? 'draft'" :confirmed="row.confirmed" />
          <span class="facts">
            <span class="store">{{ row.store_title }}</span>
            <span v-if="row.version && row.phase" class="now">
              {{ row.version }} <PhaseWord :phase="row.phase" />
              <template v-if="LEG_PART_WAY.includes(row.phase ?? '')"> at {{ percent(row.share) }}</template>
              <em v-if="!row.confirmed" class="soft"> ordered, not confirmed</em>
            </span>
            <span v-else class="soft">{{ row.berth_state === 'open' ? 'no release yet' : `berth ${row.berth_state}` }}</span>
            <span v-if="row.stage_ends_at" class="soft small-print">next stage <Moment :at="row.stage_ends_at" /></span>
            <span v-if="row.next_version && row.next_phase" class="small-print"><span class="soft">comes next</span> {{ row.next_version }} <PhaseWord :phase="row.next_phase" /></span>
            <span v-for="entry in row.also_on" :key="entry.track + entry.version" class="small-print"><span class="soft">on {{ entry.track_title }}</span> {{ entry.version }} <PhaseWord :phase="entry.phase" /><template v-if="entry.share > 0 && entry.share < 1"> at {{ percent(entry.share) }}</template></span>
          </span>
          <span class="live"><span class="soft small-print">live</span><strong>{{ row.live_version ?? '–' }}</strong></span>
        </RouterLink>
      </article>
    </section>
  </div>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.needs ul { margin-top: 0.6rem; }
.needs li { display: grid; grid-template-columns: 1.2rem minmax(10rem, 15rem) 1fr; gap: 0.1rem 0.6rem; padding: 0.4rem 0; border-top: 1px solid var(--line); }
.needs li:first-child { border-top: 0; }
.needs .blocker .shape { color: var(--alarm); }
.needs .caution .shape { color: var(--care); }
.where { font-weight: 600; }
.apps { columns: 25rem; column-gap: 1rem; }
.apps article { break-inside: avoid; margin-bottom: 1rem; }
.apps h2 { margin-bottom: 0.35rem; }
.berth { display: flex; gap: 0.9rem; align-items: center; padding: 0.6rem 0.4rem; margin: 0 -0.4rem; border-top: 1px solid var(--line); color: inherit; text-decoration: none; border-radius: 0.3rem; }
.berth:hover { background: color-mix(in srgb, var(--accent) 8%, transparent); }
.facts { display: grid; gap: 0.1rem; flex: 1; min-width: 0; }
.store { font-weight: 600; }
.live { display: grid; justify-items: end; }
@media (max-width: 620px) { .needs li { grid-template-columns: 1.2rem 1fr; } .needs li a { grid-column: 2; } }
</style>
