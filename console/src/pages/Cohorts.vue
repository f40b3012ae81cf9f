<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type App, type Build, type Cohort, type Trial, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'

const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data, problem, load } = useLoading(async () => {
  const [cohorts, trials, builds, app] = await Promise.all([
    told<Cohort[]>(api.GET('/v1/apps/{app}/cohorts', { params: { path } })),
    told<Trial[]>(api.GET('/v1/apps/{app}/trials', { params: { path } })),
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path } })),
    told<App>(api.GET('/v1/apps/{app}', { params: { path } })),
  ])
  return { cohorts, trials, builds, app }
})
useLive(load, (change) => change.app === props.app || change.app === null)
const doing = useDoing()

const KINDS = { crew: 'staff', guest: 'invited', 'walk-in': 'anyone with the link' }
const making = ref(false)
const made = reactive<{ name: string; kind: 'crew' | 'guest' | 'walk-in' }>({ name: '', kind: 'crew' })
const tester = reactive({ cohort: '', email: '', name: '' })
const trial = reactive({ cohort: '', place: '', notes: '', contact: '' })
const ready = computed(() =>
  (data.value?.builds ?? []).flatMap((build) => build.consignments.filter((entry) => entry.state === 'ready').map((entry) => ({ value: `${build.id} ${entry.store}`, label: `${build.label} at ${entry.store_title}` }))),
)
const trialsOf = (cohort: Cohort) => (data.value?.trials ?? []).filter((entry) => entry.cohort === cohort.name)

async function act(work: () => Promise<unknown>): Promise<boolean> {
  const done = await doing.run(work)
  if (done) await load()
  return done
}

async function make(): Promise<void> {
  if (await act(() => told(api.POST('/v1/apps/{app}/cohorts', { params: { path }, body: { ...made } })))) making.value = false
}

async function add(cohort: Cohort): Promise<void> {
  const body = { email: tester.email, name: tester.name }
  if (await act(() => told(api.POST('/v1/apps/{app}/cohorts/{cohort}/testers', { params: { path: { ...path, cohort: cohort.name } }, body })))) tester.email = tester.name = ''
}

function remove(cohort: Cohort, email: string) {
  return act(() => told(api.DELETE('/v1/apps/{app}/cohorts/{cohort}/testers/{email}', { params: { path: { ...path, cohort: cohort.name, email } } })))
}

async function open(cohort: Cohort): Promise<void> {
  const [build = '', store = ''] = trial.place.split(' ')
  const body = { cohort: cohort.name, build, store, notes: trial.notes, contact: trial.contact }
  if (await act(() => told(api.POST('/v1/apps/{app}/trials', { params: { path }, body })))) trial.cohort = trial.notes = ''
}

function again(invitation: string) {
  return act(() => told(api.POST('/v1/invitations/{invitation}/mails', { params: { path: { invitation } } })))
}

function close(entry: Trial) {
  return act(() => told(api.POST('/v1/trials/{trial}/close', { params: { path: { trial: entry.id } }, body: { reason: 'closed from the console' } })))
}

function counted(entry: Trial): string {
  const counts = new Map<string, number>()
  for (const invitation of entry.invitations) counts.set(invitation.state, (counts.get(invitation.state) ?? 0) + 1)
  return [...counts].map(([state, count]) => `${count} ${state}`).join(', ')
}
</script>

<template>
  <AppHead :app="app" page="cohorts" title="Cohorts"><BButton variant="primary" @click="making = !making">Make a cohort</BButton></AppHead>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <form v-if="making" class="card-plain row-gap form" @submit.prevent="make">
    <label>Name <input v-model="made.name" class="form-control" required placeholder="crew" /></label>
    <label>Kind <select v-model="made.kind" class="form-select"><option v-for="(told, kind) in KINDS" :key="kind" :value="kind">{{ kind }}: {{ told }}</option></select></label>
    <BButton type="submit" variant="primary" :disabled="doing.busy.value">Make it</BButton>
  </form>
  <template v-if="data">
    <div v-if="data.cohorts.length" class="stack">
      <section v-for="cohort in data.cohorts" :key="cohort.name" class="card-plain cohort" :aria-label="cohort.name">
        <header class="row-gap">
          <h2>{{ cohort.name }}</h2>
          <span class="soft">{{ cohort.kind }}: {{ KINDS[cohort.kind] }}</span>
          <span class="soft">{{ cohort.testers.length }} testers<template v-for="(seats, store) in cohort.seats" :key="store"> · {{ seats - cohort.testers.length }} of {{ seats }} seats left at {{ store }}</template></span>
          <BButton size="sm" class="end" variant="outline-primary" :disabled="!cohort.testers.length || !ready.length" :title="!ready.length ? 'No build is ready at a store yet' : ''" @click="trial.cohort = trial.cohort === cohort.name ? '' : cohort.name">Hand a build to them</BButton>
        </header>
        <form v-if="trial.cohort === cohort.name" class="stack form" @submit.prevent="open(cohort)">
          <label>Build <select v-model="trial.place" class="form-select" required><option v-for="place in ready" :key="place.value" :value="place.value">{{ place.label }}</option></select></label>
          <label>What to try <textarea v-model="trial.notes" class="form-control" rows="2" required /></label>
          <label>Testers answer to <input v-model="trial.contact" type="email" class="form-control" required placeholder="testing@example.org" /></label>
          <div><BButton type="submit" variant="primary" :disabled="doing.busy.value">Invite {{ cohort.testers.length }} testers</BButton></div>
        </form>
        <div v-for="entry in trialsOf(cohort)" :key="entry.id" class="trial">
          <div class="row-gap">
            <strong>{{ entry.build_label }}</strong> at {{ entry.store_title }} <PhaseWord :phase="entry.state" /> <span class="soft small-print"><Moment :at="entry.changed_at" /></span>
            <span class="soft">{{ counted(entry) }}</span>
            <BButton v-if="['open', 'with the store'].includes(entry.state)" size="sm" variant="link" class="end" @click="close(entry)">End it</BButton>
          </div>
          <p v-if="entry.reason" class="soft">{{ entry.reason }}</p>
          <details>
            <summary>Invitations</summary>
            <table class="table-plain">
              <tbody>
                <tr v-for="invitation in entry.invitations" :key="invitation.id">
                  <td>{{ invitation.tester.name || invitation.tester.email }}<br /><span class="soft small-print">{{ invitation.tester.email }}</span></td>
                  <td><PhaseWord :phase="invitation.state" /><br /><span v-if="invitation.trouble" class="soft small-print">{{ invitation.trouble }}</span></td>
                  <td class="soft small-print"><Moment :at="invitation.changed_at" /></td>
                  <td><BButton v-if="['sent', 'bounced'].includes(invitation.state)" size="sm" variant="link" @click="again(invitation.id)">Send again</BButton></td>
                </tr>
              </tbody>
            </table>
          </details>
        </div>
        <details :open="!cohort.testers.length">
          <summary>Testers</summary>
          <ul class="plain-list testers">
            <li v-for="person in cohort.testers" :key="person.id">{{ person.name }} <span class="soft">{{ person.email }}</span> <BButton size="sm" variant="link" :aria-label="`Take ${person.email} out`" @click="remove(cohort, person.email)">take out</BButton></li>
          </ul>
          <form class="row-gap form" @submit.prevent="add(cohort)">
            <label>Address <input v-model="tester.email" type="email" class="form-control form-control-sm" required @focus="tester.cohort = cohort.name" /></label>
            <label>Name <input v-model="tester.name" class="form-control form-control-sm" @focus="tester.cohort = cohort.name" /></label>
            <BButton type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value">Add</BButton>
          </form>
        </details>
      </section>
    </div>
    <EmptyState v-else-if="!making" title="No cohorts yet">Make one for your own staff first: a crew gets a build as soon as the store is ready, without review.</EmptyState>
  </template>
</template>

<style scoped>
.cohort { display: grid; gap: 0.75rem; }
.end { margin-left: auto; }
.form { align-items: end; }
.form label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.trial { border-top: 1px solid var(--line); padding-top: 0.6rem; }
.testers { columns: 20rem; padding: 0.4rem 0; }
.testers li { break-inside: avoid; }
summary { color: var(--accent); font-size: 0.9rem; }
</style>
