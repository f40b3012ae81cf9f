<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, asRead, type App, type Build, type CohortDetail, type InvitationState, type Member, type Tester, told } from '../api'
import ConfirmButton from '../components/ConfirmButton.vue'
import ImportList from '../components/ImportList.vue'
import History from '../components/History.vue'
import Explained from '../components/Explained.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RetireButton from '../components/RetireButton.vue'
import SeatBar from '../components/SeatBar.vue'
import TrialSheetForm from '../components/TrialSheetForm.vue'
import { inAddress } from '../address'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { usePicked } from '../picking'
import { INVITATION_OF_MEMBERS } from '../states'

/** A cohort: who, how many seats left, what they have, what they said, what is stuck. */
const props = defineProps<{ app: string; cohort: string }>()
const path = { app: props.app, cohort: props.cohort }
const PAGE = 50
const wish = inAddress<{ find: string; state: InvitationState | ''; sort: 'address' | 'name' | 'newest' }>({ find: '', state: '', sort: 'address' })
const { data, problem, load } = useLoading(async () => {
  const [cohort, app] = await Promise.all([
    told<CohortDetail>(api.GET('/v1/apps/{app}/cohorts/{cohort}', { params: { path } })),
    told<App>(api.GET('/v1/apps/{app}', { params: { path } })),
  ])
  return { cohort, app }
})
const people = usePaged<Member>(
  PAGE,
  (after) => told(api.GET('/v1/apps/{app}/cohorts/{cohort}/testers', { params: { path, query: { text: wish.find, state: wish.state || undefined, order: wish.sort, after, limit: PAGE } } })),
  (entry) => entry.tester.email,
  [() => wish],
)
useLive(load, (change) => change.app === props.app || change.app === null)
useLive(people.refresh, (change) => change.app === props.app || change.app === null)
const doing = useDoing()
const router = useRouter()

const members = people.rows
const cohort = computed(() => data.value?.cohort)
const elsewhere = computed(() => (data.value?.app.berths ?? []).filter((berth) => berth.state === 'open' && !cohort.value?.at.some((entry) => entry.store === berth.store)))

const open = ref<'' | 'add' | 'list' | 'brief' | 'hand' | 'name'>('')
const newName = ref('')
function nameIt(): void {
  newName.value = props.cohort
  open.value = 'name'
}

async function rename(): Promise<void> {
  const done = await doing.run(async () => void (await told(api.PATCH('/v1/apps/{app}/cohorts/{cohort}', { params: { path }, body: { name: newName.value } }))))
  if (done) await router.push(`/apps/${props.app}/cohorts/${newName.value.trim().toLowerCase()}`)
}

const askOutlook = () => told(api.GET('/v1/apps/{app}/cohorts/{cohort}/retirement', { params: { path } }))
const restore = () => told(api.DELETE('/v1/apps/{app}/cohorts/{cohort}/retirement', { params: { path } })).then(load)
const retire = () => act(() => told(api.PUT('/v1/apps/{app}/cohorts/{cohort}/retirement', { params: { path }, body: { reason: '' } })), `${props.cohort} is retired`, restore)
const useAgain = () => act(restore, `${props.cohort} is in use again`)

async function remove(): Promise<void> {
  const done = await doing.run(async () => void (await told(api.DELETE('/v1/apps/{app}/cohorts/{cohort}', { params: { path } }))))
  if (done) await router.push(`/apps/${props.app}/cohorts`)
}
const turn = (what: typeof open.value) => (open.value = open.value === what ? '' : what)
const tester = reactive({ email: '', name: '' })
const known = ref<Tester[]>([])
const caution = ref('')
const brief = reactive({ locale: 'en', text: '', contact: '' })
const limit = ref<number | null>(null)
const until = ref('')
const sure = ref(false)
const copied = ref(false)
const builds = ref<Build[]>([])

async function act(work: () => Promise<unknown>, said?: string, undo?: () => Promise<unknown>): Promise<boolean> {
  const done = await doing.run(work, said, undo)
  if (done) {
    await Promise.all([load(), people.begin()])
  }
  return done
}

const nextPage = () => doing.run(people.next)

watch(
  () => tester.email,
  async (text) => {
    known.value = text.length > 1 ? await told<Tester[]>(api.GET('/v1/testers', { params: { query: { text, limit: 6 } } })).catch(() => []) : []
  },
)

async function add(): Promise<void> {
  caution.value = ''
  await act(async () => {
    const made = await told<Tester>(api.POST('/v1/apps/{app}/cohorts/{cohort}/testers', { params: { path }, body: { ...tester } }))
    caution.value = made.caution ? `${made.email}: ${made.caution}.` : ''
    tester.email = tester.name = ''
  }, `${tester.email} is in ${props.cohort}`)
}

const pick = (who: Tester) => act(() => told(api.POST('/v1/apps/{app}/cohorts/{cohort}/picks', { params: { path }, body: { testers: [who.id] } })).then(() => (tester.email = '')))
const picked = usePicked(members, (entry) => entry.tester.id)

async function takeOut(who: Tester[]): Promise<void> {
  const testers = who.map((one) => one.id)
  const named = who.length === 1 ? who[0]!.name || who[0]!.email : `${who.length} people`
  const back = () => told(api.POST('/v1/apps/{app}/cohorts/{cohort}/picks', { params: { path }, body: { testers } })).then(() => Promise.all([load(), people.begin()]))
  await act(() => told(api.POST('/v1/apps/{app}/cohorts/{cohort}/removals', { params: { path }, body: { testers, reason: '' } })), `${named} left ${props.cohort}`, back)
  picked.only([])
}
const attach = (store: string, by_itself: boolean | null, track: string | null = null) => act(() => told(api.PUT('/v1/apps/{app}/cohorts/{cohort}/berths/{store}', { params: { path: { ...path, store } }, body: { by_itself, track } })))
const detach = (store: string) => act(() => told(api.DELETE('/v1/apps/{app}/cohorts/{cohort}/berths/{store}', { params: { path: { ...path, store } } })))

async function moveTo(store: string, before: string, event: Event): Promise<void> {
  const field = event.target as HTMLSelectElement
  if (!(await attach(store, null, field.value))) field.value = before
}

async function turnByItself(store: string, event: Event): Promise<void> {
  const box = event.target as HTMLInputElement
  if (!(await attach(store, box.checked))) box.checked = !box.checked
}

/** What was read when the editing began. */
let condition = {}
function editBrief(): void {
  condition = asRead(`/v1/apps/${props.app}/cohorts/${props.cohort}`)
  const kept = Object.entries(cohort.value?.brief ?? {})[0]
  brief.locale = kept?.[0] ?? 'en'
  brief.text = kept?.[1] ?? ''
  brief.contact = cohort.value?.contact ?? ''
  turn('brief')
}

async function keepBrief(): Promise<void> {
  if (await act(() => told(api.PUT('/v1/apps/{app}/cohorts/{cohort}/brief', { params: { header: condition, path }, body: { brief: { [brief.locale]: brief.text }, contact: brief.contact } })))) open.value = ''
}

function setJoin(isOpen: boolean, renew = false) {
  const body = { open: isOpen, limit: limit.value || (cohort.value?.join?.limit ?? null), until: until.value ? new Date(until.value).toISOString() : (cohort.value?.join?.until ?? null), renew }
  return act(() => told(api.PUT('/v1/apps/{app}/cohorts/{cohort}/join', { params: { path }, body })))
}

async function copy(link: string): Promise<void> {
  await navigator.clipboard?.writeText(link).catch(() => undefined)
  copied.value = true
  setTimeout(() => (copied.value = false), 2000)
}

async function hand(): Promise<void> {
  if (open.value !== 'hand') await doing.run(async () => (builds.value = await told(api.GET('/v1/apps/{app}/builds', { params: { path, query: { limit: 40 } } }))))
  turn('hand')
}

async function finished(): Promise<void> {
  open.value = ''
  await Promise.all([load(), people.begin()])
}
const counted = (invited: Record<string, number>) => Object.entries(invited).map(([what, count]) => `${count} ${what}`).join(', ') || 'nobody yet'
</script>

<template>
  <div class="page-head">
    <div><h1>{{ cohort?.name ?? props.cohort }}</h1>
      <form v-if="open === 'name'" class="row-gap" @submit.prevent="rename"><label class="row-gap">New name <input v-model="newName" class="form-control form-control-sm" required maxlength="40" /></label><BButton data-needs="keep-testers" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Rename</BButton><BButton size="sm" variant="link" @click="open = ''">Cancel</BButton></form>
      <div v-else class="row-gap"><BButton data-needs="keep-testers" size="sm" variant="link" @click="nameIt">Rename</BButton><ConfirmButton data-needs="keep-testers" v-if="cohort && cohort.removable" said="Remove" consequence="It is gone; its people stay known to the desk." sure="Remove it" :disabled="doing.busy.value" @do="remove" /><span v-else-if="cohort && !cohort.retired_at" data-needs="keep-testers"><RetireButton :what="cohort.name" :ask="askOutlook" :disabled="doing.busy.value" @do="retire" /></span></div>
      <p v-if="cohort?.retired_at" class="row-gap" role="status"><strong>Retired</strong> <span class="soft">since <Moment :at="cohort.retired_at" />; it gets no builds and no people.</span> <BButton data-needs="keep-testers" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="useAgain">Take it into use again</BButton></p></div>
    <div class="row-gap">
      <BButton data-needs="hand-out" variant="primary" @click="hand">Hand a build to them</BButton>
      <BButton data-needs="keep-testers" variant="outline-primary" @click="turn('add')">Add testers</BButton>
      <BButton data-needs="keep-testers" variant="outline-primary" @click="turn('list')">Import a list</BButton>
      <BButton variant="outline-primary" :href="`/v1/apps/${app}/cohorts/${props.cohort}/export`">CSV</BButton>
    </div>
  </div>
  <ProblemNote :problem="problem ?? people.problem.value" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="cohort">
    <TrialSheetForm v-if="open === 'hand'" :app="app" :cohorts="[cohort]" :builds="builds" :chosen="cohort.name" @done="finished" @leave="open = ''" />
    <ImportList v-if="open === 'list'" :path="`/v1/apps/${app}/cohorts/${props.cohort}/imports`" :into="cohort.name" @done="finished" @leave="open = ''" />
    <form v-if="open === 'add'" class="card-plain add" @submit.prevent="add">
      <div class="row-gap end">
        <label>Address <input v-model="tester.email" type="search" inputmode="email" class="form-control" required placeholder="a new address, or part of a known one" autocomplete="off" /></label>
        <label>Name <input v-model="tester.name" class="form-control" /></label>
        <BButton data-needs="keep-testers" type="submit" variant="primary" :disabled="doing.busy.value">Add</BButton>
      </div>
      <ul v-if="known.length" class="plain-list"><li v-for="who in known" :key="who.id" class="row-gap">{{ who.name || who.email }} <span class="soft">{{ who.email }}</span> <BButton data-needs="keep-testers" size="sm" variant="link" @click="pick(who)">Pick {{ who.name || who.email }}</BButton></li></ul>
      <p v-if="caution" class="care" role="status">■ {{ caution }}</p>
    </form>

    <section v-if="cohort.stuck.length" class="card-plain stuck" aria-labelledby="stuck"><h2 id="stuck">What is stuck</h2><ul class="plain-list"><li v-for="said in cohort.stuck" :key="said"><span aria-hidden="true" class="care">■</span> {{ said }}</li></ul></section>

    <div class="figures">
      <article class="card-plain"><h2>Who</h2><p class="big">{{ cohort.testers.toLocaleString('en') }}</p><p class="soft">{{ cohort.kind }} testers<template v-if="cohort.declined">, {{ cohort.declined }} declined</template><template v-if="cohort.bounced">, {{ cohort.bounced }} with a dead address</template></p></article>
      <article class="card-plain"><h2>What they have</h2>
        <ul v-if="cohort.have.length" class="plain-list"><li v-for="build in cohort.have" :key="build.build"><strong>{{ build.people }}</strong> on <RouterLink :to="`/apps/${app}/builds/${build.build}`">{{ build.label }}</RouterLink></li></ul>
        <p v-else class="soft">No store has seen a build on a device yet.</p>
      </article>
      <article class="card-plain"><h2>What they said</h2>
        <p v-if="Object.keys(cohort.reports).length"><RouterLink :to="`/apps/${app}/reports?cohort=${cohort.name}`">{{ Object.entries(cohort.reports).map(([what, count]) => `${what.replace(/ (of|in)$/, '')} ${count}`).join(', ') }}</RouterLink></p>
        <p v-else class="soft">Nothing has come back yet.</p>
      </article>
      <article class="card-plain"><h2>Standing <Explained word="trial brief" said="brief" /></h2>
        <p v-for="(text, locale) in cohort.brief" :key="locale" class="clip"><span class="soft">{{ locale }}</span> {{ text }}</p>
        <p v-if="!Object.keys(cohort.brief).length" class="soft">None yet; new builds can go on automatically once there is one.</p>
        <BButton data-needs="keep-testers" size="sm" variant="link" @click="editBrief">{{ Object.keys(cohort.brief).length ? 'Change it' : 'Write one' }}</BButton>
      </article>
    </div>
    <form v-if="open === 'brief'" class="card-plain brief" @submit.prevent="keepBrief">
      <label>Please look at <textarea v-model="brief.text" class="form-control" rows="3" /></label>
      <div class="row-gap end"><label>Language <input v-model="brief.locale" class="form-control" maxlength="12" required /></label><label>Testers may ask <input v-model="brief.contact" type="email" class="form-control" required /></label><BButton data-needs="keep-testers" type="submit" variant="primary">Keep it</BButton></div>
    </form>

    <section class="card-plain" aria-labelledby="stores">
      <h2 id="stores">At the stores</h2>
      <div class="scroll-x"><table class="table-plain at"><tbody>
        <tr v-for="entry in cohort.at" :key="entry.store">
          <td><strong>{{ entry.store_title }}</strong></td>
          <td><label v-if="entry.tracks.length > 1" class="row-gap small-print">over <select class="form-select form-select-sm" :value="entry.track" :aria-label="`Track at ${entry.store_title}`" @change="moveTo(entry.store, entry.track, $event)"><option v-for="way in entry.tracks" :key="way.key" :value="way.key">{{ way.title }}</option></select></label><span v-else-if="entry.tracks[0]" class="soft small-print whole">over {{ entry.tracks[0].title }}</span></td>
          <td><SeatBar :seats="entry.seats" :taken="entry.taken" :left="entry.left" :per-build="entry.per_build" /></td>
          <td><div v-for="trial in cohort.running.filter((row) => row.store === entry.store)" :key="trial.id"><RouterLink :to="`/trials/${trial.id}`">{{ trial.build_label }}</RouterLink> <PhaseWord :phase="trial.state" /> <span class="soft small-print">{{ counted(trial.invited) }}</span></div></td>
          <td><div class="row-gap right">
            <label class="row-gap small-print"><input type="checkbox" class="form-check-input" :checked="entry.by_itself" @change="turnByItself(entry.store, $event)" /> new builds automatically</label>
            <BButton data-needs="keep-testers" size="sm" variant="link" @click="detach(entry.store)">Take it away from {{ entry.store_title }}</BButton>
          </div></td>
        </tr>
      </tbody></table></div>
      <p v-if="elsewhere.length" class="row-gap"><BButton data-needs="keep-testers" v-for="berth in elsewhere" :key="berth.store" size="sm" variant="outline-primary" @click="attach(berth.store, null)">Put it at {{ berth.store_title }}</BButton></p>
    </section>

    <section v-if="cohort.kind === 'walk-in'" class="card-plain link" aria-labelledby="link">
      <h2 id="link">The link to join</h2>
      <template v-if="cohort.join">
        <p class="row-gap"><strong>{{ cohort.join.closed_because ? `○ nobody can join: ${cohort.join.closed_because}` : '● open' }}</strong><span class="soft"><template v-if="cohort.join.limit">{{ cohort.join.limit }} people at most. </template><template v-if="cohort.join.until">Until <Moment :at="cohort.join.until" />.</template></span></p>
        <p class="row-gap"><code>{{ cohort.join.link }}</code><BButton size="sm" variant="link" @click="copy(cohort.join.link)">{{ copied ? 'Copied' : 'Copy' }}</BButton></p>
      </template>
      <div class="row-gap end">
        <label>People at most <input v-model.number="limit" type="number" min="1" class="form-control form-control-sm" :placeholder="cohort.join?.limit ? String(cohort.join.limit) : 'no limit'" /></label>
        <label>Until <input v-model="until" type="datetime-local" class="form-control form-control-sm" /></label>
        <BButton data-needs="keep-testers" size="sm" variant="outline-primary" @click="setJoin(true)">{{ cohort.join?.open ? 'Save' : 'Open it' }}</BButton>
        <BButton data-needs="keep-testers" v-if="cohort.join?.open" size="sm" variant="outline-primary" @click="setJoin(false)">Close it</BButton>
        <template v-if="cohort.join"><BButton data-needs="keep-testers" v-if="!sure" size="sm" variant="link" @click="sure = true">Make another link …</BButton><BButton data-needs="keep-testers" v-else size="sm" variant="danger" @click="setJoin(cohort.join.open, true).then(() => (sure = false))">The old link is void then; make it</BButton></template>
      </div>
    </section>

    <section class="card-plain" aria-labelledby="people">
      <div class="row-gap"><h2 id="people">People</h2>
        <input v-model="wish.find" type="search" class="form-control form-control-sm find" placeholder="Search name, address, tag" aria-label="Search people" />
        <select v-model="wish.state" class="form-select form-select-sm find" aria-label="Invitation"><option value="">any invitation</option><option v-for="what in INVITATION_OF_MEMBERS" :key="what" :value="what">{{ what }}</option></select>
        <select v-model="wish.sort" class="form-select form-select-sm find" aria-label="Order"><option value="address">by address</option><option value="name">by name</option><option value="newest">newest first</option></select>
        <span v-if="picked.here.value.length" class="row-gap"><strong>{{ picked.here.value.length }} chosen:</strong> <BButton data-needs="keep-testers" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="takeOut(picked.here.value.map((entry) => entry.tester))">Take them out</BButton></span>
      </div>
      <div class="scroll-x"><table class="table-plain">
        <thead><tr><th><input type="checkbox" class="form-check-input" aria-label="All that are shown" :checked="picked.all.value" :indeterminate="picked.some.value" @change="picked.pickAll" /></th><th>Who</th><th>Invitation</th><th>Has</th><th>In it since</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody>
          <tr v-for="entry in members" :key="entry.tester.id">
            <td><input type="checkbox" class="form-check-input" :aria-label="`Choose ${entry.tester.email}`" :checked="picked.has(entry)" @change="picked.pick(entry, $event)" /></td>
            <td>{{ entry.tester.name || entry.tester.email }}<br /><span class="soft small-print">{{ entry.tester.email }}<template v-if="entry.tester.tags.length"> · {{ entry.tester.tags.join(', ') }}</template></span></td>
            <td><PhaseWord v-if="entry.declined_at || entry.state" :phase="entry.declined_at ? 'declined' : entry.state!" /><span v-else class="soft">not invited yet</span><br /><span class="soft small-print"><Moment :at="entry.since" /></span><span v-if="entry.trouble" class="small-print care"><br />■ {{ entry.trouble }}</span></td>
            <td><template v-if="entry.build_label">{{ entry.state === 'installed' ? entry.build_label : '' }}</template><br /><span class="soft small-print">{{ [entry.device, entry.system].filter(Boolean).join(', ') }}</span></td>
            <td class="soft small-print"><Moment :at="entry.joined_at" /><br />{{ entry.joined_how }}</td>
            <td class="nowrap"><BButton data-needs="keep-testers" size="sm" variant="link" :aria-label="`take out ${entry.tester.email}`" @click="takeOut([entry.tester])">take out</BButton></td>
          </tr>
        </tbody>
      </table></div>
      <p v-if="!members.length && people.seen.value" class="soft">{{ wish.find || wish.state ? 'Nobody matches.' : 'Nobody is in it yet. Add a person, pick from those known, or import a list.' }}</p>
      <BButton v-if="!people.ended.value && members.length" size="sm" variant="outline-primary" @click="nextPage">Show more</BButton>
    </section>
    <History :app="app" :about="`cohort ${props.cohort}`" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.whole { white-space: nowrap; }
.page-head p { margin: 0; }
section, form.card-plain { margin-bottom: 1rem; }
.figures { display: grid; grid-template-columns: repeat(auto-fit, minmax(13rem, 1fr)); gap: 1rem; margin-bottom: 1rem; }
.figures p { margin: 0.2rem 0 0; }
.big { font-size: 1.9rem; font-weight: 650; line-height: 1.1; }
.clip { display: -webkit-box; -webkit-line-clamp: 2; line-clamp: 2; -webkit-box-orient: vertical; overflow: hidden; }
.add, .brief, .link { display: grid; gap: 0.6rem; }
.end { align-items: end; }
label { font-size: 0.9rem; }
.add label, .brief label, .link label { display: grid; gap: 0.2rem; }
.add label:first-child { flex: 1 1 20rem; }
.at td { padding-block: 0.45rem; vertical-align: middle; }
.right { justify-content: flex-end; }
.nowrap { white-space: nowrap; }
.find { width: auto; min-width: 11rem; }
input.find { width: 17rem; }
.stuck { border-color: var(--care); }
.care { color: var(--care); }
code { overflow-wrap: anywhere; }
</style>
