<script setup lang="ts">
import { computed, onMounted, reactive, watch } from 'vue'

import { api, type Build, type Cohort, told, type TrialSheet } from '../api'
import { useDoing, useLoading } from '../loading'
import { CONSIGNMENT_GOES_ON } from '../states'
import FindingList from './FindingList.vue'
import ProblemNote from './ProblemNote.vue'

/** Hand a build to cohorts: what to look at, and beforehand what each store will do with it. */
const props = defineProps<{ app: string; cohorts: Cohort[]; builds: Build[]; chosen?: string }>()
const emit = defineEmits<{ done: []; leave: [] }>()

const wish = reactive({
  cohorts: props.chosen ? [props.chosen] : [],
  build: '',
  texts: [{ locale: 'en', text: '' }],
  contact: '',
  remarks: '',
  signIn: false,
  name: '',
  password: '',
  how: '',
  whenReady: false,
})
const looking = useLoading<TrialSheet | null>(async () => wish.build && wish.cohorts.length ? await told(api.POST('/v1/apps/{app}/trial-sheets', { params: { path: { app: props.app } }, body: body.value })) : null)
const sheet = looking.data
const doing = useDoing()
const sent = computed(() => props.builds.filter((build) => build.consignments.some((entry) => CONSIGNMENT_GOES_ON.includes(entry.state))))
const where = (build: Build) => build.consignments.map((entry) => `${entry.store_title} ${entry.state}`).join(', ')
const waits = computed(() => props.builds.find((build) => build.id === wish.build)?.consignments.some((entry) => entry.state !== 'ready') ?? false)
const blocked = computed(() => sheet.value?.level === 'blocker')
const people = computed(() => (sheet.value?.plans ?? []).reduce((sum, plan) => sum + plan.invited, 0))

const body = computed(() => ({
  cohorts: wish.cohorts,
  build: wish.build,
  stores: [],
  brief: Object.fromEntries(wish.texts.filter((entry) => entry.text.trim()).map((entry) => [entry.locale, entry.text])),
  contact: wish.contact,
  remarks_to: wish.remarks,
  sign_in: wish.signIn ? { name: wish.name, password: wish.password, how: wish.how } : null,
  when_ready: wish.whenReady,
}))

function suggest(): void {
  const first = props.cohorts.find((cohort) => wish.cohorts.includes(cohort.name))
  if (!first || wish.texts.some((entry) => entry.text)) return
  const kept = Object.entries(first.brief).map(([locale, text]) => ({ locale, text }))
  if (kept.length) wish.texts = kept
  wish.contact ||= first.contact
}

let timer: ReturnType<typeof setTimeout> | undefined
watch(body, () => {
  clearTimeout(timer)
  timer = setTimeout(() => void looking.load(), 300)
})
onMounted(() => {
  wish.build = sent.value[0]?.id ?? ''
  suggest()
  void looking.load()
})

async function go(): Promise<void> {
  const opened = await doing.run(() => told(api.POST('/v1/apps/{app}/trials', { params: { path: { app: props.app } }, body: body.value })))
  if (opened) emit('done')
}
</script>

<template>
  <section class="card-plain sheet" aria-labelledby="hand">
    <h2 id="hand">Hand a build to testers</h2>
    <ProblemNote :problem="doing.problem.value ?? looking.problem.value" />
    <p v-if="!sent.length" class="soft">No build is at a store yet. <RouterLink :to="`/apps/${app}/builds`">Send one</RouterLink> first; it need not be ready.</p>
    <form v-else class="fields" @submit.prevent="go">
      <label>Build <select v-model="wish.build" class="form-select" required><option v-for="build in sent" :key="build.id" :value="build.id">{{ build.label }}: {{ where(build) }}</option></select></label>
      <fieldset>
        <legend>To whom</legend>
        <label v-for="cohort in cohorts" :key="cohort.name" class="check"><input v-model="wish.cohorts" type="checkbox" class="form-check-input" :value="cohort.name" @change="suggest" /> {{ cohort.name }} <span class="soft">{{ cohort.kind }}, {{ cohort.testers }}</span></label>
      </fieldset>
      <div v-for="(entry, place) in wish.texts" :key="place" class="brief">
        <label>Please look at <textarea v-model="entry.text" class="form-control" rows="3" :required="place === 0" /></label>
        <label class="locale">Language <input v-model="entry.locale" class="form-control" maxlength="12" /></label>
      </div>
      <div class="row-gap">
        <BButton size="sm" variant="link" @click="wish.texts.push({ locale: '', text: '' })">Another language</BButton>
        <BButton size="sm" variant="link" @click="wish.signIn = !wish.signIn">{{ wish.signIn ? 'No sign-in for the reviewer' : 'How the reviewer signs in' }}</BButton>
      </div>
      <div v-if="wish.signIn" class="two">
        <label>Account <input v-model="wish.name" class="form-control" autocomplete="off" /></label>
        <label>Password <input v-model="wish.password" type="password" class="form-control" autocomplete="new-password" /></label>
        <label class="wide">What else the reviewer must know <input v-model="wish.how" class="form-control" placeholder="or that no sign-in is needed" /></label>
        <p class="soft small-print wide">Sealed like keys; it goes to the store alone and is never shown again.</p>
      </div>
      <div class="two">
        <label>Testers may ask <input v-model="wish.contact" type="email" class="form-control" required placeholder="testing@example.org" /></label>
        <label>Remarks also go to <input v-model="wish.remarks" class="form-control" placeholder="their own page is always there" /></label>
      </div>
      <label v-if="waits" class="check"><input v-model="wish.whenReady" type="checkbox" class="form-check-input" /> Hand it in as soon as each store has processed the build</label>
      <div v-if="sheet" class="plans" role="status">
        <article v-for="plan in sheet.plans" :key="plan.cohort + plan.store">
          <h3>{{ plan.cohort }} at {{ plan.store_title }}</h3>
          <p><strong>{{ plan.invited }} people</strong>, {{ plan.waits_for_review ? `after ${plan.store_title}'s review (usually ${plan.usual_hours.toFixed(1)} h)` : 'at once' }}<template v-if="plan.carried">; {{ plan.carried }} have taken part before and are only told</template>. <span v-if="plan.seats !== null" class="soft">{{ plan.seats_left }} of {{ plan.seats }} seats are left then.</span></p>
          <p v-if="plan.replaces" class="soft">Takes over from <RouterLink :to="`/trials/${plan.replaces}`">the trial before</RouterLink> when it opens.</p>
          <FindingList v-if="plan.findings.length" :findings="plan.findings" />
          <details v-if="plan.left_out.length"><summary>{{ plan.left_out.length }} without a seat, {{ plan.fit.length }} fit</summary><p class="soft small-print">{{ plan.left_out.slice(0, 60).join(', ') }}{{ plan.left_out.length > 60 ? ' …' : '' }}</p></details>
        </article>
      </div>
      <div class="row-gap">
        <BButton type="submit" variant="primary" :disabled="doing.busy.value || !sheet || blocked">{{ people ? `Hand it to ${people} people` : 'Hand it over' }}</BButton>
        <BButton variant="link" @click="emit('leave')">Cancel</BButton>
        <span class="soft small-print">Mails go out when a store has opened the trial and given the seats.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
.sheet { display: grid; gap: 0.8rem; margin-bottom: 1rem; border-color: var(--accent); }
.fields { display: grid; gap: 0.8rem; }
.fields label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.fields .check { display: inline-flex; gap: 0.45rem; align-items: center; margin-right: 1.2rem; }
legend { font-size: 0.9rem; margin: 0 0 0.2rem; }
.brief { display: grid; grid-template-columns: 1fr 6rem; gap: 0.6rem; align-items: start; }
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr)); gap: 0.6rem; }
.wide { grid-column: 1 / -1; margin: 0; }
.plans { display: grid; gap: 0.6rem; grid-template-columns: repeat(auto-fit, minmax(20rem, 1fr)); }
.plans article { border-left: 3px solid var(--line); padding-left: 0.8rem; }
.plans p { margin: 0.15rem 0; }
summary { color: var(--accent); font-size: 0.9rem; }
</style>
