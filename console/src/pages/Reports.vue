<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, type Build, type BuildNumbers, type Cohort, type CrashGroup, type Report, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import UseChart from '../components/UseChart.vue'
import { inAddress } from '../address'
import SortHead from '../components/SortHead.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { usePicked } from '../picking'
import { useSorted } from '../sorting'
import { REPORT_STATES } from '../states'
import { percent } from '../telling'

/** What comes back: the inbox, crashes that are the same, and numbers by build. */
const props = defineProps<{ app: string }>()
const path = { app: props.app }
const PAGE = 40
type State = Report['state']
const COLUMNS = [['build', 'Build'], ['invited', 'Invited'], ['accepted', 'Accepted'], ['installed', 'On a device'], ['sessions', 'Sessions'], ['well', 'Without a crash'], ['remarks', 'Remarks'], ['crashes', 'Crashes'], ['open', 'Open']] as const
const wish = inAddress<{ view: 'inbox' | 'crashes' | 'numbers'; find: string; state: string; kind: '' | 'remark' | 'crash'; build: string; cohort: string; group: string; order: 'newest' | 'oldest'; sort: string }>({ view: 'inbox', find: '', state: '', kind: '', build: '', cohort: '', group: '', order: 'newest', sort: '' })
const states = computed<State[]>({ get: () => wish.state.split(',').filter(Boolean) as State[], set: (chosen) => (wish.state = chosen.join(',')) })
const asked = computed(() => ({ app: props.app, text: wish.find, kind: wish.kind || undefined, build: wish.build || undefined, cohort: wish.cohort || undefined, group: wish.group || undefined }))
const { data, problem, load } = useLoading(async () => {
  const [counts, groups, numbers] = await Promise.all([
    told<Record<string, number>>(api.GET('/v1/reports/counts', { params: { query: asked.value } })),
    told<CrashGroup[]>(api.GET('/v1/apps/{app}/crash-groups', { params: { path } })),
    told<BuildNumbers[]>(api.GET('/v1/apps/{app}/test-numbers', { params: { path } })),
  ])
  return { counts, groups, numbers }
})
const inbox = usePaged<Report>(
  PAGE,
  (after) => told(api.GET('/v1/reports', { params: { query: { ...asked.value, state: states.value.length ? states.value : undefined, order: wish.order, after: after || undefined, limit: PAGE } } })),
  (report) => report.id,
  [asked, states, () => wish.order],
)
watch(asked, load)
const filters = useLoading(async () => {
  const [builds, cohorts] = await Promise.all([
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path, query: { limit: 40 } } })),
    told<Cohort[]>(api.GET('/v1/apps/{app}/cohorts', { params: { path } })),
  ])
  return { builds, cohorts }
})
void filters.load()
useLive(() => Promise.all([load(), inbox.refresh()]).then(() => undefined), (change) => change.app === props.app && (change.kind.includes('report') || change.kind === 'usage'))
const doing = useDoing()

const reports = inbox.rows
const filtered = computed(() => Boolean(wish.find || wish.state || wish.kind || wish.build || wish.cohort || wish.group))

const picked = usePicked(reports, (report) => report.id)
const left = ref<{ report: string; why: string }[]>([])

async function decideAll(act: 'accept' | 'close' | 'reopen'): Promise<void> {
  await doing.run(async () => {
    const done = await told(api.POST('/v1/report-decisions', { body: { reports: picked.here.value.map((report) => report.id), act, reason: '' } }))
    left.value = done.left
    picked.only(done.left.map((entry) => entry.report))
    await Promise.all([load(), inbox.refresh()])
  })
}

const nextPage = () => doing.run(inbox.next)

function onlyGroup(group: CrashGroup): void {
  wish.group = group.fingerprint
  wish.view = 'inbox'
}
const groups = useSorted(computed(() => data.value?.groups ?? []), { times: (group) => group.count, crash: (group) => group.headline, people: (group) => group.people, last: (group) => group.last_at }, () => wish.sort)
const numbers = useSorted(computed(() => data.value?.numbers ?? []), { build: (build) => build.label, invited: (build) => build.invited, accepted: (build) => build.accepted, installed: (build) => build.installed, sessions: (build) => build.sessions, well: (build) => build.crash_free, remarks: (build) => build.remarks, crashes: (build) => build.crashes, open: (build) => build.open_reports }, () => wish.sort)
const few = (counts: Record<string, number>) => Object.entries(counts).slice(0, 3).map(([what, count]) => `${what}${count > 1 ? ` ×${count}` : ''}`).join(', ')
</script>

<template>
  <AppHead title="Field reports">
    <div class="btn-group" role="group" aria-label="View">
      <BButton v-for="what in ['inbox', 'crashes', 'numbers'] as const" :key="what" :variant="wish.view === what ? 'primary' : 'outline-primary'" :aria-pressed="wish.view === what" @click="wish.view = what">{{ { inbox: 'Inbox', crashes: 'Crashes', numbers: 'Numbers' }[what] }}</BButton>
    </div>
    <BButton variant="outline-primary" :href="`/v1/reports/export?app=${app}`">CSV</BButton>
  </AppHead>
  <ProblemNote :problem="problem ?? inbox.problem.value ?? doing.problem.value" />
  <template v-if="data">
    <section v-if="wish.view === 'inbox'" class="card-plain">
      <div class="row-gap filters">
        <input v-model="wish.find" type="search" class="form-control form-control-sm find" placeholder="Search words, device, ticket" aria-label="Search reports" />
        <select v-model="wish.kind" class="form-select form-select-sm" aria-label="Kind"><option value="">remarks and crashes</option><option value="remark">remarks</option><option value="crash">crashes</option></select>
        <select v-model="wish.build" class="form-select form-select-sm" aria-label="Build"><option value="">every build</option><option v-for="build in filters.data.value?.builds ?? []" :key="build.id" :value="build.id">{{ build.label }}</option></select>
        <select v-model="wish.cohort" class="form-select form-select-sm" aria-label="Cohort"><option value="">every cohort</option><option v-for="cohort in filters.data.value?.cohorts ?? []" :key="cohort.name" :value="cohort.name">{{ cohort.name }}</option></select>
        <select v-model="wish.order" class="form-select form-select-sm" aria-label="Order"><option value="newest">newest first</option><option value="oldest">oldest first</option></select>
        <BButton v-if="wish.group" size="sm" variant="outline-primary" @click="wish.group = ''">only one crash ✕</BButton>
      </div>
      <fieldset class="row-gap states"><legend class="visually-hidden">State</legend><label v-for="what in REPORT_STATES" :key="what" class="row-gap"><input v-model="states" type="checkbox" class="form-check-input" :value="what" /> <PhaseWord :phase="what" /> <span class="soft">{{ data.counts[what] ?? 0 }}</span></label></fieldset>
      <div v-if="reports.length" class="row-gap several">
        <label class="row-gap"><input type="checkbox" class="form-check-input" :checked="picked.all.value" :indeterminate="picked.some.value" @change="picked.pickAll" /> all that are shown</label>
        <template v-if="picked.here.value.length">
          <strong>{{ picked.here.value.length }} chosen:</strong>
          <BButton data-needs="keep-testers" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="decideAll('accept')">Accept</BButton>
          <BButton data-needs="keep-testers" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="decideAll('close')">Close</BButton>
          <BButton data-needs="keep-testers" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="decideAll('reopen')">Reopen</BButton>
        </template>
      </div>
      <ul v-if="left.length" class="plain-list care" role="status"><li v-for="entry in left" :key="entry.report">■ {{ entry.report }} stays as it is: {{ entry.why }}</li></ul>
      <ul v-if="reports.length" class="plain-list inbox">
        <li v-for="report in reports" :key="report.id">
          <input type="checkbox" class="form-check-input" :aria-label="`Choose ${report.headline} of ${report.id}`" :checked="picked.has(report)" @change="picked.pick(report, $event)" />
          <span class="what"><RouterLink :to="`/reports/${report.id}`">{{ report.headline }}</RouterLink><span v-if="report.alike > 1" class="soft"> ×{{ report.alike }}</span><span v-if="report.pictures.length" class="soft small-print"> · {{ report.pictures.length }} picture{{ report.pictures.length > 1 ? 's' : '' }}</span><br /><span class="soft small-print">{{ report.kind }} · {{ report.build_label ?? 'build not known' }}<template v-if="report.cohort"> · {{ report.cohort }}</template><template v-if="report.device"> · {{ report.device }}</template> · {{ report.tester?.name || report.tester?.email || 'nobody known' }}</span></span>
          <span><PhaseWord :phase="report.state" /> <span class="nowrap">{{ report.fixed_label ?? report.duplicate_of }}</span><br /><span class="soft small-print">{{ report.ticket }}</span></span>
          <span class="soft small-print"><Moment :at="report.received_at" /></span>
        </li>
      </ul>
      <p v-else-if="filtered" class="soft">No report matches.</p>
      <EmptyState v-else-if="inbox.seen.value" title="Nothing has come back yet">Testers write from their own page, stores hand on what comes in there, and programs file by the API.</EmptyState>
      <BButton v-if="!inbox.ended.value && reports.length" size="sm" variant="outline-primary" @click="nextPage">Show more</BButton>
    </section>

    <section v-else-if="wish.view === 'crashes'" class="card-plain">
      <table v-if="data.groups.length" class="table-plain">
        <thead><tr><SortHead v-model="wish.sort" by="times" first="down">Times</SortHead><SortHead v-model="wish.sort" by="crash">Crash</SortHead><th>Builds</th><th>Devices</th><SortHead v-model="wish.sort" by="last" first="down">Last</SortHead></tr></thead>
        <tbody><tr v-for="group in groups" :key="group.fingerprint">
          <td><strong>{{ group.count }}</strong><br /><span class="soft small-print">{{ group.people }} people</span></td>
          <td><RouterLink :to="`/reports/${group.newest}`">{{ group.headline }}</RouterLink><br /><span class="soft small-print">{{ group.open ? `${group.open} open` : 'all settled' }}<template v-if="!group.symbolised"> · no symbol file</template> · <a href="#" @click.prevent="onlyGroup(group)">its reports</a></span></td>
          <td class="small-print">{{ few(group.builds) }}</td><td class="small-print">{{ few(group.devices) }}</td><td class="soft small-print"><Moment :at="group.last_at" /></td>
        </tr></tbody>
      </table>
      <EmptyState v-else title="No crash came in">Equal crashes are shown together here, regardless of build and phone.</EmptyState>
    </section>

    <section v-else class="card-plain stack">
      <UseChart :builds="data.numbers" />
      <div v-if="data.numbers.length" class="scroll-x"><table class="table-plain numbers">
        <thead><tr><SortHead v-for="[by, said] in COLUMNS" :key="by" v-model="wish.sort" :by="by" first="down">{{ said }}</SortHead></tr></thead>
        <tbody><tr v-for="build in numbers" :key="build.build"><td><RouterLink :to="`/apps/${app}/builds/${build.build}`">{{ build.label }}</RouterLink> <span class="soft small-print">{{ build.platform }}</span></td><td>{{ build.invited }}</td><td>{{ build.accepted }}</td><td>{{ build.installed }}</td><td>{{ build.sessions }}</td><td>{{ build.crash_free === null ? '–' : percent(build.crash_free) }}</td><td>{{ build.remarks }}</td><td>{{ build.crashes }}</td><td>{{ build.open_reports }}</td></tr></tbody>
      </table></div>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.filters .form-select { width: auto; }
.find { width: 16rem; }
.states { margin: 0.6rem 0; gap: 0.3rem 1.2rem; font-size: 0.9rem; }
.several { padding: 0.35rem 0; font-size: 0.9rem; min-height: 2.6rem; }
.care { color: var(--care); }
.inbox li { display: grid; grid-template-columns: auto minmax(0, 1fr) minmax(9rem, 14rem) minmax(9rem, 15.5rem); gap: 0.2rem 1rem; border-top: 1px solid var(--line); padding: 0.55rem 0; }
.what { overflow-wrap: anywhere; }
.nowrap { white-space: nowrap; }
.numbers td:not(:first-child), .numbers th:not(:first-child) { text-align: right; }
@media (max-width: 48rem) { .inbox li { grid-template-columns: auto minmax(0, 1fr); } .inbox li > span { grid-column: 2; } }
</style>
