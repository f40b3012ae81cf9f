<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, asRead, type Release, told } from '../api'
import AppHead from '../components/AppHead.vue'
import ConfirmButton from '../components/ConfirmButton.vue'
import EmptyState from '../components/EmptyState.vue'
import GaugesByHand from '../components/GaugesByHand.vue'
import LineChart from '../components/LineChart.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { doesOf, type Guard, type GuardTrial, type GuardWanted } from '../guarding'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { COMPARES, GUARD, LEG_LAUNCHED, ON_BREACH, TOLERANCES, WATCHED } from '../states'

/** The guards of an app: rules that watch every rollout, and may stop it. */
const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data: guards, problem, load } = useLoading<Guard[]>(() => told(api.GET('/v1/apps/{app}/guards', { params: { path } })))
const { data: releases, load: loadReleases } = useLoading<Release[]>(() => told(api.GET('/v1/apps/{app}/releases', { params: { path } })))
useLive(async () => void (await Promise.all([load(), loadReleases()])), (change) => change.app === props.app)
const doing = useDoing()

const fresh = () => ({ name: 'crashes', watched: 'people who met a crash', against: 'the version before', bound: null as number | null, tolerance: 1.25, one_in: Math.round(1 / GUARD.errorBound), least_people: GUARD.leastPeople, on_breach: 'halt', every_store: true, together: true, source: '', stores: [] as string[] })
const form = reactive(fresh())
const editing = ref<string | null>(null)
const open = ref(false)
const launched = computed(() => (releases.value ?? []).filter((release) => release.legs.some((leg) => LEG_LAUNCHED.includes(leg.phase))))
/** The stores without a gateway where something was launched: their counts are typed in. */
const byHand = computed(() => {
  const legs = (releases.value ?? []).flatMap((release) => release.legs).filter((leg) => leg.hand_carried && leg.launched_at)
  return [...new Map(legs.map((leg) => [leg.store, { name: leg.store, title: leg.store_title }])).values()]
})
const compares = computed<readonly string[]>(() => COMPARES[form.watched as keyof typeof COMPARES])
const stars = computed(() => form.watched === 'ratings')

/** What was read when the editing began. */
let condition = {}
function begin(guard?: Guard): void {
  condition = asRead(`/v1/apps/${props.app}/guards`)
  Object.assign(form, fresh(), guard ? { ...guard, one_in: Math.round(1 / guard.error_bound), stores: [...guard.stores] } : {})
  editing.value = guard?.name ?? null
  open.value = true
  tried.value = null
}
function watchedChanged(): void {
  form.tolerance = TOLERANCES[form.watched as keyof typeof TOLERANCES]
  if (!compares.value.includes(form.against)) form.against = compares.value[0]!
}
const body = (): GuardWanted => ({
  name: form.name, watched: form.watched as GuardWanted['watched'], against: form.against as GuardWanted['against'], bound: form.against === 'a fixed bound' ? form.bound : null, tolerance: form.tolerance,
  error_bound: 1 / form.one_in, least_people: form.least_people, on_breach: form.on_breach as GuardWanted['on_breach'], every_store: form.every_store, together: form.together, source: form.source, stores: form.stores,
})
async function save(): Promise<void> {
  const done = await doing.run(async () => {
    if (editing.value) await told(api.PUT('/v1/apps/{app}/guards/{guard}', { params: { header: condition, path: { ...path, guard: editing.value } }, body: body() }))
    else await told(api.POST('/v1/apps/{app}/guards', { params: { path }, body: body() }))
    await load()
  }, `${form.name} watches every rollout`)
  if (done) open.value = false
}
const end = (guard: Guard) => doing.run(async () => {
  await told(api.POST('/v1/apps/{app}/guards/{guard}/end', { params: { path: { ...path, guard: guard.name } }, body: { reason: '' } }))
  await load()
}, `${guard.name} watches no more; what it found stays`)

const tried = ref<GuardTrial | null>(null)
const on = ref('')
const ratio = ref(2)
function tryOut(): Promise<boolean> {
  return doing.run(async () => {
    const how = on.value ? { version: on.value } : { ratio: ratio.value }
    tried.value = await told(api.POST('/v1/apps/{app}/guard-trials', { params: { path }, body: { ...body(), ...how, rate: 0.004, people: 40_000, share: 0.05, hours: 336, seed: 1 } }))
  })
}
const lines = computed(() => {
  const points = (tried.value?.line ?? []).map((point) => ({ x: new Date(point.at).getTime(), y: point.way }))
  if (!points.length) return []
  return [
    { label: 'Evidence', points, colour: '--accent', fill: true },
    { label: 'It would act', points: [points[0]!, points[points.length - 1]!].map((end) => ({ x: end.x, y: 1 })), colour: '--alarm', dashed: true },
  ]
})
</script>

<template>
  <AppHead title="Guards"><BButton data-needs="steer" v-if="!open" variant="primary" @click="begin()">Add a guard</BButton></AppHead>
  <p class="soft intro">A guard compares each rollout, hour by hour, with the version that people had before. However often it looks, it is wrong no more often.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />

  <form v-if="open" class="card-plain form" :aria-label="editing ? `Change ${editing}` : 'A new guard'" @submit.prevent="save">
    <h2>{{ editing ? `Change ${editing}` : 'A new guard' }}</h2>
    <div class="fields">
      <label>Name <input v-model="form.name" class="form-control form-control-sm" required :maxlength="GUARD.longestName" /></label>
      <label>Watches <select v-model="form.watched" class="form-select form-select-sm" @change="watchedChanged"><option v-for="one in WATCHED" :key="one">{{ one }}</option></select></label>
      <label>Compares with <select v-model="form.against" class="form-select form-select-sm"><option v-for="one in compares" :key="one">{{ one }}</option></select></label>
      <label v-if="form.against === 'a fixed bound'">{{ stars ? 'Stars' : 'Rate, 0.01 is 1 in 100' }} <input v-model.number="form.bound" type="number" step="any" :min="stars ? 1 : 0.0001" :max="stars ? 5 : 1" class="form-control form-control-sm" required /></label>
      <label>{{ stars ? 'Accepts so many stars less' : form.watched === 'uptake' ? 'Accepts so many times slower' : 'Accepts so many times as many' }} <input v-model.number="form.tolerance" type="number" step="any" :min="stars ? 0.05 : 1" :max="stars ? GUARD.mostStars : GUARD.highestTolerance" class="form-control form-control-sm" required /></label>
      <label>Wrong at most once in <input v-model.number="form.one_in" type="number" min="5" max="10000" class="form-control form-control-sm" required /></label>
      <label>Acts from so many people on <input v-model.number="form.least_people" type="number" min="1" class="form-control form-control-sm" required /></label>
      <label>When it is sure <select v-model="form.on_breach" class="form-select form-select-sm"><option v-for="one in ON_BREACH" :key="one" :value="one">{{ one === 'tell' ? 'tell people' : `${one} and tell people` }}</option></select></label>
    </div>
    <label class="row-gap"><input v-model="form.together" type="checkbox" class="form-check-input" /> Judge all stores together: what one store counts adds to the others</label>
    <label v-if="form.on_breach !== 'tell'" class="row-gap"><input v-model="form.every_store" type="checkbox" class="form-check-input" /> Do it at every store of the release</label>
    <fieldset class="trial">
      <legend>Try it first; nothing is stopped</legend>
      <div class="row-gap">
        <label class="row-gap">On <select v-model="on" class="form-select form-select-sm" aria-label="What it is tried on"><option value="">made-up counts</option><option v-for="one in launched" :key="one.version" :value="one.version">what was counted of {{ one.version }}</option></select></label>
        <label v-if="!on" class="row-gap">where it goes wrong <input v-model.number="ratio" type="number" step="any" min="0.1" max="100" class="form-control form-control-sm ratio" /> times as often</label>
        <BButton data-needs="steer" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="tryOut">Try it</BButton>
      </div>
      <div v-if="tried" role="status">
        <p><strong>{{ tried.said }}</strong> <template v-if="tried.share !== null && tried.share !== undefined">Of 100 such made-up rollouts it would have stopped {{ Math.round(tried.share * 100) }}.</template></p>
        <LineChart v-if="lines.length" label="Evidence over time, as a part of the way to a breach" :lines="lines" left="evidence" :top="1" :height="150" />
      </div>
    </fieldset>
    <div class="row-gap"><BButton data-needs="steer" type="submit" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton variant="link" @click="open = false">Cancel</BButton></div>
  </form>

  <template v-if="guards">
    <EmptyState v-if="!guards.length && !open" title="No guard yet">
      Without one, a person has to watch the crashes of every rollout in every store. A guard with the usual settings halts a rollout everywhere when clearly more people meet a crash than before.
    </EmptyState>
    <section v-for="guard in guards" :key="guard.id" class="card-plain guard" :aria-label="guard.name">
      <header class="row-gap"><h2>{{ guard.name }}</h2><span class="soft">{{ guard.watched }}, against {{ guard.bound ?? guard.against }}</span></header>
      <p>{{ guard.said }} When it is sure, it {{ doesOf(guard) }}.</p>
      <p v-if="guard.stores.length || guard.source" class="soft small-print"><template v-if="guard.stores.length">Watches {{ guard.stores.join(', ') }}. </template><template v-if="guard.source">Its counts come from {{ guard.source }}.</template></p>
      <div class="row-gap"><BButton data-needs="steer" size="sm" variant="outline-primary" @click="begin(guard)">Change or try</BButton><ConfirmButton data-needs="steer" said="End it" :consequence="`${guard.name} watches no more; what it found stays.`" sure="End it" :disabled="doing.busy.value" @do="end(guard)" /></div>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
  <GaugesByHand v-if="byHand.length" :app="app" :stores="byHand" />
</template>

<style scoped>
.intro { max-width: 52rem; }
.form { display: grid; gap: 0.9rem; margin-bottom: 1rem; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr)); gap: 0.7rem 1rem; align-items: end; }
.trial { border-top: 1px solid var(--line); padding-top: 0.7rem; display: grid; gap: 0.5rem; }
.trial legend { font-size: 0.95rem; font-weight: 650; }
.trial p { margin: 0.3rem 0; }
.ratio { width: 5rem; }
.trial select { width: auto; }
.guard { margin-bottom: 0.8rem; display: grid; gap: 0.4rem; }
.guard p { margin: 0; }
</style>
