<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Invitation, type InvitationState, told, type Trial } from '../api'
import History from '../components/History.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { place } from '../place'
import { INVITATION_SITS, INVITATION_STATES } from '../states'
import { percent } from '../telling'

/** One trial: where it stands at each store, and whom it has reached. */
const props = defineProps<{ trial: string }>()
const path = { trial: props.trial }
const PAGE = 50
const search = ref('')
const state = ref<InvitationState | ''>('')
const { data, problem, load } = useLoading(async () => {
  const trial = await told<Trial>(api.GET('/v1/trials/{trial}', { params: { path } }))
  place.value = { app: trial.app, list: 'cohorts', said: `${trial.build_label} for ${trial.cohort}` }
  const all = await told<Trial[]>(api.GET('/v1/apps/{app}/trials', { params: { path: { app: trial.app }, query: { cohort: trial.cohort } } }))
  return { trial, beside: all.filter((entry) => entry.build_label.split(' ')[0] === trial.build_label.split(' ')[0] || entry.build === trial.build) }
})
const people = usePaged<Invitation>(
  PAGE,
  (after) => told(api.GET('/v1/trials/{trial}/invitations', { params: { path, query: { text: search.value, state: state.value || undefined, after, limit: PAGE } } })),
  (entry) => entry.tester.email,
  [search, state],
)
useLive(load)
useLive(people.refresh)
const doing = useDoing()
const trial = computed(() => data.value?.trial)

const invitations = people.rows
const days = ref(3)
const reason = ref('')
const ending = ref(false)
const fixing = ref(false)
const said = ref('')
const fixed = reactive({ locale: 'en', text: '', name: '', password: '', how: '' })

async function act(work: () => Promise<unknown>, what?: string, undo?: () => Promise<unknown>): Promise<boolean> {
  said.value = ''
  const done = await doing.run(work, what, undo)
  if (done) {
    await Promise.all([load(), people.begin()])
  }
  return done
}

const again = (invitation: Invitation) => act(() => told(api.POST('/v1/invitations/{invitation}/mails', { params: { path: { invitation: invitation.id } } })))
const againAll = () =>
  act(async () => {
    const done = await told(api.POST('/v1/trials/{trial}/mails', { params: { path }, body: { older_than_days: days.value, bounced: false } }))
    said.value = `${done.queued} mails are queued again${done.held_back ? `; ${done.held_back} are held back, so that nobody is flooded` : ''}.`
  })

const router = useRouter()
const reopen = () => told(api.POST('/v1/trials/{trial}/reopenings', { params: { path }, body: { reason: '' } })).then((made) => router.push(`/trials/${made.id}`))
const openAgain = () => doing.run(reopen, `The trial of ${trial.value?.build_label} is open again`)

async function close(): Promise<void> {
  if (await act(() => told(api.POST('/v1/trials/{trial}/close', { params: { path }, body: { reason: reason.value } })), `The trial of ${trial.value?.build_label} ends`, reopen)) ending.value = false
}

async function handIn(): Promise<void> {
  const sign_in = fixed.name || fixed.how ? { name: fixed.name, password: fixed.password, how: fixed.how } : null
  const brief: Record<string, string> = fixed.text ? { [fixed.locale]: fixed.text } : {}
  if (await act(() => told(api.POST('/v1/trials/{trial}/hand-ins', { params: { path }, body: { brief, contact: '', remarks_to: '', sign_in, reason: '' } })))) fixing.value = false
}

const nextPage = () => doing.run(people.next)

function fix(): void {
  const kept = Object.entries(trial.value?.brief ?? {})[0]
  fixed.locale = kept?.[0] ?? 'en'
  fixed.text = kept?.[1] ?? ''
  fixing.value = !fixing.value
}
const counts = computed(() => INVITATION_STATES.filter((what) => trial.value?.invited[what]).map((what) => ({ what, count: trial.value!.invited[what]! })))
const moments = (invitation: Invitation) => Object.entries(invitation.moments).sort((one, other) => one[1].localeCompare(other[1]))
</script>

<template>
  <ProblemNote :problem="problem ?? people.problem.value" />
  <template v-if="trial">
    <div class="page-head">
      <div><p class="soft small-print"><RouterLink :to="`/apps/${trial.app}/cohorts/${trial.cohort}`">{{ trial.cohort }} of {{ trial.app_title }}</RouterLink></p><h1>Trial of {{ trial.build_label }} at {{ trial.store_title }}</h1></div>
      <div class="row-gap">
        <BButton data-needs="hand-out" v-if="trial.state === 'rejected'" variant="primary" @click="fix">Fix it and hand it in again</BButton>
        <BButton data-needs="hand-out" v-if="trial.reopens" variant="outline-primary" :disabled="doing.busy.value" @click="openAgain">Open it again</BButton>
        <BButton data-needs="hand-out" v-if="trial.possible.includes('close')" variant="outline-primary" @click="ending = !ending">End it</BButton>
      </div>
    </div>
    <ProblemNote :problem="doing.problem.value" />
    <p v-if="said" role="status" class="said">✓ {{ said }}</p>
    <form v-if="ending" class="card-plain row-gap end" @submit.prevent="close"><p class="wide">Nobody new gets the build from this trial, and {{ trial.store_title }} takes the seats back. Whoever has it keeps it until it expires.</p><label class="grow">Why? <input v-model="reason" class="form-control" /></label><BButton data-needs="hand-out" type="submit" variant="danger" :disabled="doing.busy.value">End the trial</BButton><BButton variant="link" @click="ending = false">Cancel</BButton></form>
    <form v-if="fixing" class="card-plain fix" @submit.prevent="handIn">
      <label>Please look at ({{ fixed.locale }}) <textarea v-model="fixed.text" class="form-control" rows="3" /></label>
      <div class="row-gap end"><label>Reviewer's account <input v-model="fixed.name" class="form-control" autocomplete="off" :placeholder="trial.sign_in_sealed ? 'as before' : ''" /></label><label>Password <input v-model="fixed.password" type="password" class="form-control" autocomplete="new-password" /></label><label class="grow">What else the reviewer must know <input v-model="fixed.how" class="form-control" /></label></div>
      <div><BButton data-needs="hand-out" type="submit" variant="primary" :disabled="doing.busy.value">Hand it in again</BButton> <BButton variant="link" @click="fixing = false">Cancel</BButton></div>
    </form>

    <div class="split">
      <section class="card-plain" aria-labelledby="stands">
        <h2 id="stands">Where it stands</h2>
        <p v-if="!trial.confirmed" role="status"><strong>◌ Ordered, not confirmed.</strong> {{ trial.pending.join(', ') }}<template v-if="trial.seen">; {{ trial.store_title }} was last seen to hold it as {{ trial.seen }}</template>.</p>
        <p class="state"><PhaseWord :phase="trial.state" /> <span class="soft small-print">since <Moment :at="trial.changed_at" /></span></p>
        <p v-if="trial.reason" class="alarm">✕ {{ trial.reason }}</p>
        <dl>
          <template v-if="trial.expires_at"><dt>Expires</dt><dd><Moment :at="trial.expires_at" /></dd></template>
          <dt>Seats given</dt><dd>{{ trial.seated }}</dd>
          <template v-if="trial.sessions"><dt>Used</dt><dd>{{ trial.sessions }} sessions, {{ trial.crash_free === null ? '' : `${percent(trial.crash_free)} of them without a crash` }}</dd></template>
          <dt>Track</dt><dd><RouterLink :to="`/apps/${trial.app}/tracks/${trial.store}/${trial.track}`">{{ trial.track }}</RouterLink></dd>
          <template v-if="trial.store_page"><dt>At the store</dt><dd><a :href="trial.store_page" rel="noreferrer" target="_blank">{{ trial.store_title }}'s page for testers</a></dd></template>
          <dt>Contact</dt><dd>{{ trial.contact }}</dd>
          <dt>Reviewer's sign-in</dt><dd>{{ trial.sign_in_sealed ? 'sealed' : 'none given' }}</dd>
        </dl>
      </section>
      <section class="card-plain" aria-labelledby="brief"><h2 id="brief">Please look at</h2><p v-for="(text, locale) in trial.brief" :key="locale" class="text"><span class="soft small-print">{{ locale }}</span><br />{{ text }}</p></section>
      <section class="card-plain" aria-labelledby="beside">
        <h2 id="beside">The same version for {{ trial.cohort }}, store by store</h2>
        <ul class="plain-list"><li v-for="entry in data!.beside" :key="entry.id"><strong>{{ entry.store_title }}</strong> <component :is="entry.id === trial.id ? 'span' : 'RouterLink'" :to="`/trials/${entry.id}`">{{ entry.build_label }}</component> <PhaseWord :phase="entry.state" /><br /><span class="soft small-print">{{ Object.entries(entry.invited).map(([what, count]) => `${count} ${what}`).join(', ') }}</span></li></ul>
      </section>
    </div>

    <section class="card-plain" aria-labelledby="invitations">
      <div class="row-gap">
        <h2 id="invitations">Invitations</h2>
        <span v-for="entry in counts" :key="entry.what" class="small-print"><PhaseWord :phase="entry.what" /> {{ entry.count }}</span>
        <span v-if="trial.state === 'open' && trial.invited.sent" class="row-gap right small-print">Not answered for <input v-model.number="days" type="number" min="0" max="365" class="form-control form-control-sm days" aria-label="Days" /> days: <BButton data-needs="hand-out" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="againAll">Send again</BButton></span>
      </div>
      <div class="row-gap filters"><input v-model="search" type="search" class="form-control form-control-sm find" placeholder="Search name, address, tag" aria-label="Search invitations" /><select v-model="state" class="form-select form-select-sm find" aria-label="State"><option value="">all states</option><option v-for="what in INVITATION_STATES" :key="what" :value="what">{{ what }}</option></select></div>
      <div class="scroll-x"><table class="table-plain">
        <thead><tr><th>Who</th><th>State</th><th>On</th><th>Mails</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody>
          <tr v-for="invitation in invitations" :key="invitation.id">
            <td>{{ invitation.tester.name || invitation.tester.email }}<br /><span class="soft small-print">{{ invitation.tester.email }}</span></td>
            <td><PhaseWord :phase="invitation.state" /> <span v-if="!invitation.seated && INVITATION_SITS.includes(invitation.state)" class="soft small-print">no seat yet</span><br /><details class="small-print"><summary><Moment :at="invitation.changed_at" /></summary><span v-for="[what, at] in moments(invitation)" :key="what" class="soft">{{ what }} <Moment :at="at" /><br /></span></details><span v-if="invitation.trouble" class="small-print care">■ {{ invitation.trouble }}</span></td>
            <td class="soft small-print">{{ [invitation.device, invitation.system].filter(Boolean).join(', ') }}</td>
            <td class="soft">{{ invitation.mails }}</td>
            <td><BButton data-needs="hand-out" v-if="invitation.possible.includes('send again')" size="sm" variant="link" :aria-label="`Send again to ${invitation.tester.email}`" @click="again(invitation)">Send again</BButton></td>
          </tr>
        </tbody>
      </table></div>
      <p v-if="!invitations.length && people.seen.value" class="soft">{{ search || state ? 'Nobody matches.' : 'Nobody is invited.' }}</p>
      <BButton v-if="!people.ended.value && invitations.length" size="sm" variant="outline-primary" @click="nextPage">Show more</BButton>
    </section>
    <History v-if="trial" :app="trial.app" :about="`trial ${props.trial}`" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.page-head p { margin: 0; }
section, form.card-plain { margin-bottom: 1rem; }
.split { display: grid; grid-template-columns: repeat(auto-fit, minmax(18rem, 1fr)); gap: 1rem; }
.split section { margin-bottom: 1rem; }
.end { align-items: end; }
.grow { flex: 1 1 14rem; }
.wide { flex: 1 0 100%; margin: 0; }
.fix { display: grid; gap: 0.6rem; }
.fix label, form label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 0.15rem 0.9rem; margin: 0.4rem 0 0; font-size: 0.9rem; }
dt { color: var(--soft); font-weight: 400; }
dd { margin: 0; overflow-wrap: anywhere; }
.text { white-space: pre-wrap; margin: 0.3rem 0 0; }
.state { margin: 0.3rem 0; }
.right { margin-left: auto; }
.days { width: 4.5rem; }
.find { width: auto; min-width: 13rem; }
.filters { margin: 0.5rem 0; }
.alarm { color: var(--alarm); }
.care { color: var(--care); }
.said { font-weight: 600; }
summary { color: var(--soft); }
</style>
