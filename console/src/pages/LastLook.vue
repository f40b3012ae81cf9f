<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, told } from '../api'
import LookLines from '../components/LookLines.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReviewerBrief from '../components/ReviewerBrief.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'

type Look = components['schemas']['LookTold']
type LegLook = components['schemas']['LegLookTold']

/** The last look before a hand-in: all that people and reviewers will see of a release, beside what is live. Printed, it is a page to be signed. */
const props = defineProps<{ app: string; version: string; store?: string }>()
const path = { app: props.app, version: props.version }
const router = useRouter()
const { data: look, problem, load } = useLoading<Look>(() => told(api.GET('/v1/apps/{app}/releases/{version}/look', { params: { path, query: { store: props.store } } })))
const doing = useDoing()
void load()

/** What was looked at stays on the page; that something has changed since is said, and the page is loaded again by a person. */
const changed = ref(false)
useLive(async () => {
  const shown = look.value
  if (!shown) return
  const now = await told<Look>(api.GET('/v1/apps/{app}/releases/{version}/look', { params: { path, query: { store: props.store } } })).catch(() => null)
  if (look.value !== shown) return // it was loaded again meanwhile, such as after a change of one's own
  changed.value = now !== null && now.revision !== shown.revision
}, (change) => change.app === props.app)

const every = ref(false)
const kept = reactive<Record<string, boolean>>({})
const note = ref('')
const why = ref('')
const open = computed(() => look.value?.legs.filter((leg) => leg.open) ?? [])
const blockers = computed(() => open.value.flatMap((leg) => leg.findings.filter((one) => one.level === 'blocker')))
const matters = computed(() => blockers.value.filter((one) => one.code === 'matter-open'))
const drafted = (leg: LegLook) => leg.lines.find((line) => line.part === 'reviewer' && line.place === 'drafted')?.new ?? ''
watch(look, (now, before) => {
  changed.value = false
  const was = before?.legs[0] ? drafted(before.legs[0]) : ''
  if (now?.legs.length === 1 && (note.value === '' || note.value === was)) note.value = drafted(now.legs[0]!)
})
const optional = computed(() => [...new Map(open.value.flatMap((leg) => leg.items).filter((one) => !one.must_go).map((one) => [one.item, one])).values()])

async function again(): Promise<void> {
  changed.value = false
  await load()
}

async function handIn(): Promise<void> {
  const body = {
    store: props.store ?? null, looked: look.value!.revision, without: optional.value.filter((one) => kept[one.item]).map((one) => one.item),
    for_reviewer: look.value!.legs.length === 1 ? note.value : null, in_spite_of: matters.value.length ? why.value : '',
  }
  const done = await doing.run(() => told(api.POST('/v1/apps/{app}/releases/{version}/submissions', { params: { path }, body })), `${props.version} is handed in for review`)
  if (done) await router.push(`/apps/${props.app}/releases/${props.version}`)
}
const print = () => window.print()
</script>

<template>
  <ProblemNote :problem="problem" />
  <template v-if="look">
    <div class="page-head">
      <div>
        <h1>{{ look.app_title }} {{ look.version }}: last look</h1>
        <p class="soft">What people and reviewers will see, beside what is live. Revision <span class="mono">{{ look.revision }}</span>, looked at <Moment :at="look.looked_at" />.</p>
      </div>
      <div class="row-gap no-print">
        <label class="row-gap"><input v-model="every" type="checkbox" class="form-check-input" /> Also what stays as it is</label>
        <BButton variant="outline-primary" @click="print">Print</BButton>
        <RouterLink class="btn btn-link" :to="`/apps/${app}/releases/${version}`">Back to the release</RouterLink>
      </div>
    </div>
    <div v-if="changed" class="changed" role="status"><strong>◔ Something that is shown here has changed since.</strong> <BButton size="sm" variant="outline-primary" @click="again">Look again</BButton></div>

    <section v-for="leg in look.legs" :key="leg.place" class="card-plain place" :aria-label="leg.place_title">
      <header class="row-gap">
        <h2>{{ leg.place_title }}</h2>
        <span class="soft">
          <template v-if="!leg.live_version">nothing is live there</template>
          <template v-else-if="leg.live_known">beside {{ leg.live_version }}, which is live</template>
          <template v-else>{{ leg.live_version }} is live; what people see of it is not known here, so all of this counts as new</template>
        </span>
      </header>
      <ul v-if="leg.findings.some((one) => one.level !== 'note')" class="plain-list findings">
        <li v-for="one in leg.findings.filter((each) => each.level !== 'note')" :key="one.code + one.place"><strong>{{ one.level === 'blocker' ? '✕' : '▲' }}</strong> {{ one.detail }} <span class="soft">{{ one.remedy }}</span></li>
      </ul>
      <p class="items"><strong>Goes to review together:</strong> {{ leg.items.map((one) => one.told).join(', ') }}</p>
      <LookLines :leg="leg" :every="every" />
      <ReviewerBrief :app="app" :store="leg.place.split('/')[0]!" @done="again" />
    </section>

    <form v-if="open.length" class="card-plain hand-in no-print" @submit.prevent="handIn">
      <h2>Hand it in{{ store ? ` at ${open[0]!.place_title}` : '' }}</h2>
      <fieldset v-if="optional.length">
        <legend>Keep back <span class="small-print soft">it goes with a later release</span></legend>
        <label v-for="one in optional" :key="one.item" class="row-gap"><input v-model="kept[one.item]" type="checkbox" class="form-check-input" /> {{ one.told }}</label>
      </fieldset>
      <label v-if="look.legs.length === 1" class="field">Note for the reviewer <span class="small-print soft">drafted from what was done about each reason; what stands for every round is added</span>
        <textarea v-model="note" class="form-control" :rows="note ? 4 : 2" maxlength="2000" />
      </label>
      <label v-if="matters.length" class="field">Why it is handed in although {{ matters.length === 1 ? 'a matter is' : `${matters.length} matters are` }} open
        <input v-model="why" class="form-control" maxlength="2000" placeholder="it stands in the logbook" />
      </label>
      <ProblemNote :problem="doing.problem.value" />
      <div class="row-gap">
        <BButton data-needs="steer" type="submit" variant="primary" :disabled="doing.busy.value || changed || blockers.length > matters.length || (matters.length > 0 && !why.trim())">Hand it in</BButton>
        <span v-if="blockers.length > matters.length" class="soft">✕ Something above is in the way.</span>
      </div>
    </form>
    <p v-else class="soft">Nothing of it can be handed in now.</p>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.place { margin-bottom: 1rem; display: grid; gap: 0.6rem; }
.place header { justify-content: space-between; }
h2 { margin: 0; }
p { margin: 0; }
.changed, .findings { background: var(--care-soft); border-left: 4px solid var(--care); border-radius: 0.35rem; padding: 0.5rem 0.8rem; margin-bottom: 0.5rem; }
.hand-in { display: grid; gap: 0.7rem; border-color: var(--accent); }
.field { display: grid; gap: 0.2rem; }
fieldset { border: 0; padding: 0; margin: 0; }
legend { font-size: 1rem; margin: 0; }
@media print { .place { break-inside: avoid-page; border: 0; padding: 0; } }
</style>
