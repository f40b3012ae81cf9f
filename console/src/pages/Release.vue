<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { type Act, api, type App, type Build, type Leg, Problem, type Release, told } from '../api'
import CheckList from '../components/CheckList.vue'
import ConfirmButton from '../components/ConfirmButton.vue'
import Explained from '../components/Explained.vue'
import History from '../components/History.vue'
import LaunchStands from '../components/LaunchStands.vue'
import LegSettings from '../components/LegSettings.vue'
import MatterList from '../components/MatterList.vue'
import FixForward from '../components/FixForward.vue'
import Moment from '../components/Moment.vue'
import NotesDraft from '../components/NotesDraft.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReadinessSheet from '../components/ReadinessSheet.vue'
import ReleasePace from '../components/ReleasePace.vue'
import ReviewerThread from '../components/ReviewerThread.vue'
import RolloutHealth from '../components/RolloutHealth.vue'
import SteerDialog from '../components/SteerDialog.vue'
import WaitStrip from '../components/WaitStrip.vue'
import TideStaff from '../components/TideStaff.vue'
import WaitingProposals from '../components/WaitingProposals.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { singleKeys } from '../preferences'
import { tell } from '../messages'
import { session } from '../session'
import { LEG_PART_WAY, LEG_STOPPED, ORDER_PENDING, PRODUCTION, STOPPING } from '../states'
import { measured, percent } from '../telling'

const props = defineProps<{ app: string; version: string }>()
const path = { app: props.app, version: props.version }
const { data: release, problem, load } = useLoading<Release>(() => told(api.GET('/v1/apps/{app}/releases/{version}', { params: { path } })))
const { data: builds, load: loadBuilds } = useLoading<Build[]>(() => told(api.GET('/v1/apps/{app}/builds', { params: { path: { app: props.app }, query: { text: props.version, limit: 100 } } })))
const { data: berths, load: loadBerths } = useLoading(async () => (await told<App>(api.GET('/v1/apps/{app}', { params: { path: { app: props.app } } }))).berths)
const needed = (act: string) => (STOPPING.includes(act) ? 'stop' : 'steer')
const doing = useDoing()
const router = useRouter()
const another = ref('')
useLive(async () => void (await Promise.all([load(), loadBuilds(), loadBerths()])), (change) => change.app === props.app || change.app === null)

const STEERING: { act: Act; key: string }[] = [
  { act: 'advance', key: 'a' }, { act: 'pause', key: 'p' }, { act: 'resume', key: 'r' },
  { act: 'halt', key: 'h' }, { act: 'finish', key: 'f' }, { act: 'withdraw', key: 'w' },
]
const asked = ref<{ act: Act; store: string | null } | null>(null)
const locale = ref('en')
const text = ref('')
const editing = ref(false)
/** A matter may have taught a check. */
const checksSeen = ref(0)
const changing = ref<string | null>(null)
const drafting = ref(false)

const launched = computed(() => release.value?.legs.some((leg) => leg.launched_at) ?? false)
const submittable = computed(() => release.value?.legs.filter((leg) => leg.possible.includes('submit')) ?? [])
const stopped = computed(() => submittable.value.some((leg) => leg.findings.some((finding) => finding.level === 'blocker')))
const awaitingGoAhead = computed(() => release.value?.legs.filter((leg) => leg.waits_for_people && !leg.launched_at) ?? [])

const required = computed(() =>
  (release.value?.legs ?? []).filter((leg) => leg.notes_required.length).map((leg) => `${leg.place_title} wants them in ${leg.notes_required.join(' and ')}.`).join(' '),
)

function possibleSomewhere(act: Act): boolean {
  return release.value?.legs.some((leg) => leg.acts.some((option) => option.act === act && option.possible)) ?? false
}

/** Several stores: how they rise beside each other, and who waits for what, stands above them. */
const pacing = computed(() => (release.value?.legs.filter((leg) => leg.track === PRODUCTION).length ?? 0) > 1)
const frozen = computed(() => release.value?.legs.find((leg) => leg.frozen_by))
const unsent = computed(() => release.value?.legs.every((leg) => leg.possible.includes('drop')) ?? false)
const elsewhere = computed(() => (berths.value ?? []).filter((berth) => berth.state === 'open' && !release.value?.legs.some((leg) => leg.place === berth.store)))

async function discard(): Promise<void> {
  const done = await doing.run(async () => void (await told(api.DELETE('/v1/apps/{app}/releases/{version}', { params: { path } }))), `The draft of ${props.version} is discarded`)
  if (done) await router.push(`/apps/${props.app}/releases`)
}

const newVersion = ref('')
const renaming = ref(false)

async function rename(): Promise<void> {
  let version = newVersion.value
  const done = await doing.run(async () => void (version = (await told(api.PATCH('/v1/apps/{app}/releases/{version}', { params: { path }, body: { version } }))).version), `${props.version} is ${version} now`)
  if (done) await router.push(`/apps/${props.app}/releases/${version}`)
}

function dropLeg(store: string) {
  return doing.run(async () => void (release.value = await told(api.DELETE('/v1/apps/{app}/releases/{version}/legs/{store}', { params: { path: { ...path, store } } }))), `${props.version} no longer goes to ${store}`)
}

function addLeg() {
  return doing.run(async () => {
    release.value = await told(api.POST('/v1/apps/{app}/releases/{version}/legs', { params: { path }, body: { store: another.value, build: 'latest' } }))
    another.value = ''
  }, `${props.version} goes to one store more`)
}

/** Nothing is handed in without a last look at it. */
function look(store?: string) {
  return router.push({ path: `/apps/${props.app}/releases/${props.version}/look`, query: store ? { store } : {} })
}

function recall(store: string) {
  return doing.run(async () => void (release.value = await told(api.POST('/v1/apps/{app}/releases/{version}/recalls', { params: { path }, body: { store, reason: 'called back from the console' } }))), `${props.version} is recalled from ${store}`)
}

const mine = computed(() => (release.value?.legs ?? []).filter((leg) => !leg.launched_at && leg.go_aheads.some((one) => one.person === session.person.value?.id)))

function takeBack() {
  return doing.run(async () => void (release.value = await told(api.POST('/v1/apps/{app}/releases/{version}/go-ahead-withdrawals', { params: { path }, body: { store: null, reason: '' } }))), `Your go-ahead for ${props.version} is withdrawn`)
}

function giveGoAhead(store: string | null) {
  return doing.run(async () => void (release.value = await told(api.POST('/v1/apps/{app}/releases/{version}/go-ahead', { params: { path }, body: { store, reason: '' } }))), `The go-ahead for ${props.version} is given`)
}

/** The notes as they were when editing began, and what someone else has written there since. */
const before = ref('')
const theirs = ref<string | null>(null)
const held = () => release.value?.notes[locale.value] ?? ''
async function saveNotes(): Promise<void> {
  theirs.value = null
  if (!editing.value) return
  const saved = await doing.run(async () => {
    for (let tried = 0; ; tried += 1) {
      try {
        const condition = { 'If-Match': `"${release.value?.revision ?? 0}"` }
        if (held() !== before.value) throw new Problem(412, '', 'Someone else has changed these notes meanwhile.')
        release.value = await told(api.PUT('/v1/apps/{app}/releases/{version}/notes/{locale}', { params: { path: { ...path, locale: locale.value }, header: condition }, body: { text: text.value } }))
        return
      } catch (wrong) {
        if (!(wrong instanceof Problem) || wrong.status !== 412) throw wrong
        await load()
        if (held() === before.value && tried < 5) continue // something else of the release was changed
        theirs.value = held()
        return
      }
    }
  })
  if (saved && theirs.value === null) {
    editing.value = false
    tell(`The notes in ${locale.value} are saved`)
  }
}
function keepMine(): void {
  before.value = held()
  theirs.value = null
  void saveNotes()
}
function takeTheirs(): void {
  text.value = before.value = held()
  theirs.value = null
}

function edit(which: string): void {
  locale.value = which
  text.value = before.value = release.value?.notes[which] ?? ''
  theirs.value = null
  editing.value = true
}

function takeDraft(draft: string): void {
  drafting.value = false
  edit('en')
  text.value = draft
}

function pressed(event: KeyboardEvent): void {
  const target = event.target as HTMLElement
  if (!singleKeys.value || asked.value || event.ctrlKey || event.metaKey || event.altKey || target.closest('input, textarea, select')) return
  const chosen = STEERING.find((entry) => entry.key === event.key)
  if (chosen && possibleSomewhere(chosen.act)) {
    event.preventDefault()
    asked.value = { act: chosen.act, store: null }
  }
}
onMounted(() => window.addEventListener('keydown', pressed))
onUnmounted(() => window.removeEventListener('keydown', pressed))

const ofVersion = (leg: Leg) => (builds.value ?? []).filter((build) => build.version === props.version && build.platform === leg.platform)
const pendingTrouble = (leg: Leg) => leg.orders.find((order) => ORDER_PENDING.includes(order.state))?.trouble
</script>

<template>
  <ProblemNote :problem="problem" />
  <template v-if="release">
    <div class="page-head">
      <div>
        <h1>{{ release.app_title }} {{ release.version }}</h1>
        <form v-if="renaming" class="row-gap" @submit.prevent="rename"><label class="row-gap">New version <input v-model="newVersion" class="form-control form-control-sm" required maxlength="40" /></label><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="renaming = false">Cancel</BButton></form>
        <BButton data-needs="prepare" v-else-if="unsent" size="sm" variant="link" class="rest" @click="((renaming = true), (newVersion = release.version))">Change the version</BButton>
      </div>
      <div v-if="launched" class="row-gap" data-needs="stop" role="group" aria-label="Steer every store">
        <span class="soft">Every store:</span>
        <BButton
          :data-needs="needed(act)" v-for="{ act, key } in STEERING.filter((entry) => possibleSomewhere(entry.act))" :key="act" :variant="act === 'halt' ? 'danger' : 'outline-primary'"
          :title="singleKeys ? `Key: ${key}` : undefined" @click="asked = { act, store: null }"
        >{{ act }}</BButton>
      </div>
      <div v-else-if="submittable.length" class="row-gap">
        <ConfirmButton data-needs="prepare" v-if="unsent" said="Discard this draft" consequence="The draft and its notes go; the builds stay." sure="Discard it" :disabled="doing.busy.value" @do="discard" />
        <BButton data-needs="steer" variant="primary" :disabled="doing.busy.value || stopped" @click="look()">Hand in for review</BButton>
      </div>
    </div>
    <ProblemNote :problem="doing.problem.value" />
    <WaitingProposals :app="app" :version="version" />

    <div v-if="awaitingGoAhead.some((leg) => leg.phase === 'approved')" class="word card-plain">
      <span>Approved, and waiting for the <Explained word="go-ahead" />: <strong>{{ awaitingGoAhead.map((leg) => leg.place_title).join(', ') }}</strong></span>
      <BButton data-needs="steer" variant="primary" :disabled="doing.busy.value" @click="giveGoAhead(null)">Give the go-ahead</BButton>
    </div>

    <p v-if="mine.length" class="row-gap">You have given your go-ahead for {{ mine.map((leg) => leg.place_title).join(', ') }}. <BButton data-needs="steer" size="sm" variant="link" :disabled="doing.busy.value" @click="takeBack">Withdraw it</BButton></p>

    <ReadinessSheet v-if="submittable.length" :key="release.revision" :app="app" :version="version" :places="submittable.map((leg) => leg.place)" />

    <CheckList v-if="submittable.length" :key="`checks ${release.revision} ${checksSeen}`" :app="app" :version="version" @done="load" />

    <div v-if="frozen" class="word card-plain" role="status">
      <span>■ The freeze <strong>{{ frozen.frozen_by }}</strong> holds {{ frozen.place_title }} until <Moment :at="frozen.frozen_until!" />: nothing launches and no share rises. A halt always goes.</span>
      <RouterLink :to="{ path: '/freezes', query: { app, version } }" class="btn btn-outline-primary btn-sm">Rise in spite of it?</RouterLink>
    </div>
    <ReleasePace v-if="pacing" :release="release" @done="(changed) => (release = changed)" />
    <div class="legs">
      <section v-for="leg in release.legs" :key="leg.place" class="card-plain leg" :aria-label="leg.place_title">
        <header class="row-gap">
          <h2>{{ leg.place_title }}</h2>
          <span class="phase-now"><PhaseWord :phase="leg.phase" /> <template v-if="leg.launched_at">at {{ percent(leg.share) }}</template></span>
        </header>
        <div v-if="leg.offered_again" class="offered" role="alert">
          <p><strong>■ The store offers it again.</strong> It was {{ leg.phase }}<template v-if="leg.seen">; {{ leg.place_title }} was last seen {{ leg.seen.state }} at {{ percent(leg.seen.share) }}</template>. That was not ordered here. Is it wanted?</p>
          <div class="row-gap">
            <BButton data-needs="stop" size="sm" variant="danger" @click="asked = { act: leg.phase === 'withdrawn' ? 'withdraw' : 'halt', store: leg.place }">Stop it again</BButton>
            <BButton data-needs="steer" size="sm" variant="outline-primary" @click="asked = { act: 'resume', store: leg.place }">It is wanted</BButton>
          </div>
        </div>
        <p v-else-if="leg.step" class="pending" role="status">
          <strong>☞ Ordered; it waits for a person.</strong>
          <template v-if="leg.seen"> The store was last seen {{ leg.seen.state }} at {{ percent(leg.seen.share) }}.</template>
          <RouterLink to="/steps"> See the step</RouterLink>
        </p>
        <p v-else-if="!leg.confirmed" class="pending" role="status">
          <strong>◌ Ordered, not <Explained word="confirmed" />.</strong>
          <template v-if="leg.seen"> The store was last seen {{ leg.seen.state }} at {{ percent(leg.seen.share) }}.</template>
          {{ pendingTrouble(leg) }}
        </p>
        <p v-else-if="leg.orders[0]?.state === 'refused'" class="pending" role="status"><strong>✕ The store refused to {{ leg.orders[0].kind }}.</strong> {{ leg.orders[0].trouble }}</p>

        <div class="body">
          <TideStaff :stages="leg.ladder" :share="leg.share" :phase="leg.phase" :seen-share="leg.seen?.share" :confirmed="leg.confirmed" />
          <dl>
            <template v-if="leg.stage_ends_at"><dt>Next stage</dt><dd><Moment :at="leg.stage_ends_at" /></dd></template>
            <template v-if="leg.waits_to_rise.length && !pacing"><dt>It waits for</dt><dd>{{ leg.waits_to_rise.join(', and for ') }}</dd></template>
            <dt>Build</dt><dd>{{ leg.build_label }} <span class="mono soft">{{ leg.build }}</span></dd>
            <dt><Explained word="ladder" said="Ladder" /></dt><dd>{{ leg.ladder_dictated ? 'dictated by the store' : leg.ladder_name }}</dd>
            <template v-if="leg.launched_at"><dt>Launched</dt><dd><Moment :at="leg.launched_at" /></dd></template>
          </dl>
        </div>

        <div v-if="leg.launched_at" class="row-gap acts" role="group" :aria-label="`Steer ${leg.place_title}`">
          <BButton :data-needs="needed(option.act)" v-for="option in leg.acts.filter((known) => known.possible)" :key="option.act" size="sm" :title="option.consequence" :variant="option.act === 'halt' ? 'danger' : 'outline-primary'" @click="asked = { act: option.act, store: leg.place }">{{ option.act }}</BButton>
        </div>
        <details v-if="leg.launched_at && leg.acts.some((option) => !option.possible)" class="why">
          <summary>Why not the others?</summary>
          <ul><li v-for="option in leg.acts.filter((known) => !known.possible)" :key="option.act"><strong>{{ option.act }}</strong>: {{ option.why_not }}</li></ul>
        </details>

        <LaunchStands v-if="!leg.launched_at" :leg="leg" />
        <p v-if="leg.findings.some((finding) => finding.level === 'blocker')" class="findings"><strong>✕ It cannot be handed in yet.</strong> The sheet above says what is missing.</p>

        <div v-if="leg.rounds.length" class="rounds">
          <h3>Review, <Explained word="round" said="round by round" /></h3>
          <ol class="plain-list">
            <li v-for="round in leg.rounds" :key="round.number">
              <span class="row-gap">Round {{ round.number }} <PhaseWord :phase="round.state" /> <span v-if="!round.confirmed" class="soft">◌ ordered, not confirmed<template v-if="round.seen && round.seen !== round.state">; last seen {{ round.seen }}</template></span> <span class="soft small-print"><Moment :at="round.changed_at" /> · {{ round.build_label }}</span></span>
              <WaitStrip v-if="round.waiting" :wait="round.waiting" />
              <p v-if="round.items.length > 2" class="small-print soft">With it: {{ round.items.filter((one) => one.item !== 'build' && one.item !== 'notes').map((one) => `${one.told}${one.state ? `, ${one.state}` : ''}`).join('; ') }}</p>
              <p v-if="round.files.length" class="small-print soft">For the reviewer: {{ round.files.map((one) => one.name).join(', ') }}</p>
              <p v-if="round.in_spite_of" class="small-print soft">Handed in while a matter was open: {{ round.in_spite_of }}</p>
              <details v-if="round.for_reviewer" class="small-print"><summary>The note for the reviewer</summary><p class="told">{{ round.for_reviewer }}</p></details>
            </li>
          </ol>
        </div>

        <MatterList v-if="leg.rounds.length" :key="`${leg.rounds.length} ${leg.phase}`" :app="app" :version="version" :leg="leg" @done="((checksSeen += 1), load())" />
        <ReviewerThread v-if="leg.rounds.length" :key="leg.rounds.length" :app="app" :version="version" :leg="leg" @done="load" />

        <div v-if="!leg.launched_at" class="row-gap">
          <BButton data-needs="steer" v-if="leg.possible.includes('submit')" size="sm" variant="primary" :disabled="leg.findings.some((finding) => finding.level === 'blocker' && finding.code !== 'matter-open')" @click="look(leg.place)">{{ leg.rounds.length ? 'Hand in again' : 'Hand in' }}</BButton>
          <BButton data-needs="steer" v-if="leg.possible.includes('recall')" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="recall(leg.place)">Recall</BButton>
          <ConfirmButton data-needs="prepare" v-if="leg.possible.includes('drop') && release.legs.length > 1" said="Take this store out" :consequence="`${release.version} no longer goes to ${leg.place_title}.`" sure="Take it out" :disabled="doing.busy.value" @do="dropLeg(leg.place)" />
          <BButton data-needs="steer" v-if="leg.possible.includes('change')" size="sm" variant="link" @click="changing = changing === leg.place ? null : leg.place">{{ changing === leg.place ? 'Close' : 'Change build, ladder, launch' }}</BButton>
        </div>
        <BButton data-needs="steer" v-if="LEG_PART_WAY.includes(leg.phase) && !leg.ladder_dictated" size="sm" variant="link" class="rest" @click="changing = changing === leg.place ? null : leg.place">{{ changing === leg.place ? 'Close' : 'Change the rest of the ladder' }}</BButton>
        <LegSettings v-if="changing === leg.place" :key="release.revision" :release="release" :leg="leg" :builds="ofVersion(leg)" @done="changing = null" />
      </section>
    </div>

    <FixForward v-if="release.legs.some((leg) => LEG_STOPPED.includes(leg.phase))" :release="release" />
    <RolloutHealth v-if="launched" :app="app" :version="version" />

    <form v-if="elsewhere.length && !launched" class="row-gap another" @submit.prevent="addLeg">
      <label class="row-gap">Another store <select v-model="another" class="form-select form-select-sm" required><option v-for="berth in elsewhere" :key="berth.store" :value="berth.store">{{ berth.store_title }}</option></select></label>
      <BButton data-needs="prepare" type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value || !another">Add it with its latest build</BButton>
    </form>

    <section class="card-plain notes" aria-labelledby="notes">
      <div class="page-head">
        <h2 id="notes">What is new</h2>
        <div v-if="!editing" class="row-gap">
          <BButton data-needs="prepare" size="sm" variant="link" @click="drafting = !drafting">Draft from the source</BButton>
          <BButton data-needs="prepare" size="sm" variant="link" @click="edit('')">Add a language</BButton>
        </div>
      </div>
      <NotesDraft v-if="drafting" :app="app" :version="version" @take="takeDraft" @leave="drafting = false" />
      <form v-if="editing" class="stack" @submit.prevent="saveNotes">
        <label>Language <input v-model="locale" class="form-control form-control-sm" placeholder="en" required style="max-width: 8rem" /></label>
        <label>Notes <textarea v-model="text" class="form-control" rows="3" /></label>
        <div v-if="theirs !== null" class="meanwhile" role="alert">
          <strong>◔ Someone else has changed these notes meanwhile.</strong> They say now: <q>{{ theirs || 'nothing' }}</q>
          <div class="row-gap"><BButton size="sm" variant="outline-primary" @click="takeTheirs">Take that text</BButton><BButton size="sm" variant="outline-primary" @click="keepMine">Save mine in its place</BButton></div>
        </div>
        <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="editing = false">Cancel</BButton></div>
        <ul class="plain-list small-print soft" aria-live="polite"><li v-for="leg in release.legs" :key="leg.place" :class="{ over: measured(text, leg.notes_counted_in) > leg.notes_limit }">{{ leg.place_title }}: {{ measured(text, leg.notes_counted_in) }} of {{ leg.notes_limit }} {{ leg.notes_counted_in }}</li></ul>
      </form>
      <dl v-else-if="Object.keys(release.notes).length">
        <template v-for="(said, which) in release.notes" :key="which"><dt>{{ which }}</dt><dd>{{ said }} <BButton data-needs="prepare" size="sm" variant="link" class="edit" @click="edit(String(which))">edit</BButton></dd></template>
      </dl>
      <p v-else class="soft">No notes yet. <template v-if="required">{{ required }} </template><BButton data-needs="prepare" size="sm" variant="link" @click="edit('en')">Write them</BButton></p>
      <ul v-if="release.legs.some((leg) => leg.notes_not_sent.length)" class="plain-list">
        <li v-for="leg in release.legs.filter((entry) => entry.notes_not_sent.length)" :key="leg.place">
          <strong>◔ {{ leg.place_title }} has other notes in {{ leg.notes_not_sent.join(', ') }}.</strong> {{ leg.notes_go }}
          <details><summary>The notes it has</summary><dl><template v-for="(said, which) in leg.rounds[leg.rounds.length - 1]?.notes ?? {}" :key="which"><dt>{{ which }}</dt><dd>{{ said }}</dd></template></dl></details>
        </li>
      </ul>
    </section>
    <History :app="app" :about="`release ${version}`" />
    <SteerDialog :release="release" :act="asked?.act ?? null" :store="asked?.store ?? null" @close="asked = null" @done="load" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.trail { margin: 0; }
.word { display: flex; flex-wrap: wrap; gap: 0.75rem; justify-content: space-between; align-items: center; margin-bottom: 1rem; border-color: var(--accent); }
.legs { display: grid; gap: 1rem; grid-template-columns: repeat(auto-fit, minmax(min(100%, 24rem), 1fr)); align-items: start; }
.leg { display: grid; gap: 0.85rem; }
.leg header { justify-content: space-between; }
.phase-now { font-size: 1.05rem; }
.body { display: grid; grid-template-columns: auto 1fr; gap: 1.25rem; align-items: start; }
dl { display: grid; gap: 0.1rem 0.9rem; margin: 0; }
.body dt { color: var(--soft); font-weight: 400; font-size: 0.85rem; margin-top: 0.4rem; }
dd { margin: 0; overflow-wrap: anywhere; }
.notes dl { grid-template-columns: auto 1fr; }
.notes { margin-top: 1rem; }
.meanwhile { background: var(--care-soft); border-left: 4px solid var(--care); border-radius: 0.35rem; padding: 0.6rem 0.9rem; display: grid; gap: 0.5rem; white-space: pre-wrap; }
.another { margin-top: 0.8rem; }
.rest { justify-self: start; align-self: flex-start; }
.over { color: var(--alarm); font-weight: 600; }
.pending { background: var(--care-soft); border-left: 4px solid var(--care); border-radius: 0.35rem; padding: 0.5rem 0.8rem; margin: 0; }
.offered { background: var(--alarm-soft); border-left: 4px solid var(--alarm); border-radius: 0.35rem; padding: 0.5rem 0.8rem; }
.offered p { margin: 0 0 0.5rem; }
.findings { background: var(--alarm-soft); border-left: 4px solid var(--alarm); border-radius: 0.35rem; padding: 0.5rem 0.8rem; margin-bottom: 0.35rem; }
.told { white-space: pre-line; margin: 0.2rem 0 0; }
.rounds li { padding: 0.35rem 0; }
.why summary { color: var(--accent); font-size: 0.9rem; }
.why ul { margin: 0.35rem 0 0; padding-left: 1.1rem; font-size: 0.9rem; }
[role='group'] .btn { text-transform: capitalize; }
.edit { padding-top: 0; padding-bottom: 0; }
@media (max-width: 460px) { .body { grid-template-columns: 1fr; } }
</style>
