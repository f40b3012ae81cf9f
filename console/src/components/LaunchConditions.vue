<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Leg, type Release, told } from '../api'
import { useLoading } from '../loading'
import type { components } from '../schema'
import { DAYS, LIMITS, REPORT_KINDS } from '../states'

type Schemas = components['schemas']
type Stand = Schemas['StandTold']
type Condition = Stand['condition']
type Single = Exclude<Condition, Schemas['AnyOf']>

/** What the launch of a leg waits for: conditions are added and taken away, alone or as alternatives. */
const props = defineProps<{ release: Release; leg: Leg }>()
const conditions = defineModel<Condition[]>({ required: true })

const KINDS: { kind: Single['kind']; said: string }[] = [
  { kind: 'go-ahead', said: 'people give the go-ahead' },
  { kind: 'after', said: 'an instant is reached' },
  { kind: 'hours', said: 'it is within launch hours' },
  { kind: 'approved', said: 'other stores have approved' },
  { kind: 'live', said: 'another store is live at a share' },
  { kind: 'trial', said: 'a trial ran without crashes' },
  { kind: 'no-reports', said: 'no field report is open' },
]
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC'
const others = computed(() => props.release.legs.filter((leg) => leg.place !== props.leg.place).map((leg) => ({ place: leg.place, title: leg.place_title })))
const offered = computed(() => KINDS.filter((one) => others.value.length || !['approved', 'live'].includes(one.kind)))
const { data: people, load: loadPeople } = useLoading(() => told(api.GET('/v1/people')))
const { data: cohorts, load: loadCohorts } = useLoading(() => told(api.GET('/v1/apps/{app}/cohorts', { params: { path: { app: props.release.app } } })))
void Promise.all([loadPeople(), loadCohorts()])

const adding = ref(false)
const form = reactive({
  kind: 'go-ahead' as Single['kind'], beside: -1, count: 1, people: [] as string[], instant: '', days: ['mon', 'tue', 'wed', 'thu', 'fri'] as Schemas['LaunchHours']['days'],
  begins: '09:00', ends: '16:00', places: [] as string[], place: '', percent: 20, cohort: '', crashFree: 99.5, sessions: 1000, of: '' as '' | Schemas['ReportKind'],
})
const problem = ref('')

function singles(condition: Condition): Single[] {
  return condition.kind === 'any' ? condition.of : [condition]
}

const when = (instant: string, at: string) => `${new Date(instant).toLocaleString([], { timeZone: at, dateStyle: 'medium', timeStyle: 'short' })} (${at})`

/** One condition in words, before it is saved. */
function worded(one: Single): string {
  switch (one.kind) {
    case 'go-ahead': {
      const of = (one.people ?? []).map((who) => people.value?.find((person) => person.email === who)?.name ?? who).join(' or ')
      return `${(one.count ?? 1) > 1 ? `${one.count} people give` : 'a person gives'} the go-ahead${of ? `: ${of}` : ''}`
    }
    case 'after': return `not before ${when(one.instant, one.zone ?? 'UTC')}`
    case 'hours': return `on ${one.days.join(', ')} from ${one.begins.slice(0, 5)} to ${one.ends.slice(0, 5)} (${one.zone})`
    case 'approved': return one.places?.length ? `approved at ${one.places.join(', ')}` : 'all other stores have approved'
    case 'live': return `${one.place} is live at ${+(one.share * 100).toFixed(2)}%`
    case 'trial': return `${+(one.crash_free * 100).toFixed(3)}% of at least ${one.sessions} sessions of ${one.cohort} without a crash`
    case 'no-reports': return `no open field report${one.of ? ` of kind ${one.of}` : ''}`
  }
}

function made(): Single | null {
  switch (form.kind) {
    case 'go-ahead': return { kind: 'go-ahead', count: form.count, people: [...form.people] }
    case 'after': return form.instant ? { kind: 'after', instant: new Date(form.instant).toISOString(), zone } : null
    case 'hours': return form.days.length ? { kind: 'hours', days: DAYS.filter((day) => form.days.includes(day)), begins: form.begins, ends: form.ends, zone } : null
    case 'approved': return { kind: 'approved', places: [...form.places] }
    case 'live': return form.place ? { kind: 'live', place: form.place, share: +(form.percent / 100).toFixed(6) } : null
    case 'trial': return form.cohort ? { kind: 'trial', cohort: form.cohort, crash_free: +(form.crashFree / 100).toFixed(6), sessions: form.sessions } : null
    case 'no-reports': return { kind: 'no-reports', of: form.of || null }
  }
}

function add(): void {
  const one = made()
  problem.value = one ? '' : 'Fill in what this condition needs.'
  if (!one) return
  const beside = conditions.value[form.beside]
  conditions.value = beside
    ? conditions.value.map((known, at) => (at === form.beside ? { kind: 'any' as const, of: [...singles(beside), one] } : known))
    : [...conditions.value, one]
  form.beside = -1
  adding.value = false
}

function remove(at: number, part: number): void {
  const left = singles(conditions.value[at]!).filter((_, place) => place !== part)
  const put: Condition[] = left.length > 1 ? [{ kind: 'any', of: left }] : left
  conditions.value = conditions.value.flatMap((known, place) => (place === at ? put : [known]))
}
</script>

<template>
  <fieldset class="conditions">
    <legend>Launch when approved, and …</legend>
    <ul v-if="conditions.length" class="plain-list">
      <li v-for="(condition, at) in conditions" :key="JSON.stringify(condition)">
        <template v-for="(one, part) in singles(condition)" :key="part">
          <span v-if="part" class="soft">or</span>
          <span class="one">{{ worded(one) }} <button type="button" class="btn btn-link btn-sm" :aria-label="`Remove: ${worded(one)}`" @click="remove(at, part)">Remove</button></span>
        </template>
      </li>
    </ul>
    <p v-else class="soft small-print">Nothing else: it launches as soon as it is approved.</p>
    <BButton data-needs="steer" v-if="!adding && conditions.length < LIMITS.conditions" size="sm" variant="link" @click="adding = true">Add a condition</BButton>
    <div v-if="adding" class="form" role="group" aria-label="Another condition">
      <label>Condition
        <select v-model="form.kind" class="form-select form-select-sm"><option v-for="one in offered" :key="one.kind" :value="one.kind">{{ one.said }}</option></select>
      </label>
      <template v-if="form.kind === 'go-ahead'">
        <label>How many people <input v-model.number="form.count" type="number" min="1" :max="LIMITS.people" class="form-control form-control-sm" /></label>
        <div class="checks"><span class="small-print soft">Who may give it; none chosen means any person</span>
          <label v-for="person in people ?? []" :key="person.id" class="check"><input v-model="form.people" type="checkbox" class="form-check-input" :value="person.email" /> {{ person.name }}</label>
        </div>
      </template>
      <label v-else-if="form.kind === 'after'">Not before <span class="small-print soft">{{ zone }}</span> <input v-model="form.instant" type="datetime-local" class="form-control form-control-sm" /></label>
      <template v-else-if="form.kind === 'hours'">
        <div class="checks row"><label v-for="day in DAYS" :key="day" class="check"><input v-model="form.days" type="checkbox" class="form-check-input" :value="day" /> {{ day }}</label></div>
        <div class="row-gap"><label>From <input v-model="form.begins" type="time" class="form-control form-control-sm" /></label> <label>to <input v-model="form.ends" type="time" class="form-control form-control-sm" /></label> <span class="small-print soft">{{ zone }}</span></div>
      </template>
      <div v-else-if="form.kind === 'approved'" class="checks"><span class="small-print soft">Which; none chosen means all others</span>
        <label v-for="one in others" :key="one.place" class="check"><input v-model="form.places" type="checkbox" class="form-check-input" :value="one.place" /> {{ one.title }}</label>
      </div>
      <template v-else-if="form.kind === 'live'">
        <label>Store <select v-model="form.place" class="form-select form-select-sm"><option v-for="one in others" :key="one.place" :value="one.place">{{ one.title }}</option></select></label>
        <label>Share, % <input v-model.number="form.percent" type="number" min="0.01" max="100" step="any" class="form-control form-control-sm" /></label>
      </template>
      <template v-else-if="form.kind === 'trial'">
        <label>Cohort <select v-model="form.cohort" class="form-select form-select-sm"><option v-for="one in cohorts ?? []" :key="one.name" :value="one.name">{{ one.name }}</option></select></label>
        <label>Sessions without a crash, % <input v-model.number="form.crashFree" type="number" min="0.01" max="100" step="any" class="form-control form-control-sm" /></label>
        <label>Of so many sessions at least <input v-model.number="form.sessions" type="number" min="1" class="form-control form-control-sm" /></label>
      </template>
      <label v-else>Kind <select v-model="form.of" class="form-select form-select-sm"><option value="">any</option><option v-for="kind in REPORT_KINDS" :key="kind" :value="kind">{{ kind }}</option></select></label>
      <label v-if="conditions.length">How it counts
        <select v-model="form.beside" class="form-select form-select-sm">
          <option :value="-1">it has to hold as well</option>
          <template v-for="(condition, at) in conditions" :key="at"><option v-if="singles(condition).length < LIMITS.alternatives" :value="at">it is enough instead of: {{ singles(condition).map(worded).join(' or ') }}</option></template>
        </select>
      </label>
      <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
      <div class="row-gap"><BButton data-needs="steer" size="sm" variant="outline-primary" @click="add">Add</BButton><BButton size="sm" variant="link" @click="adding = false">Cancel</BButton></div>
    </div>
  </fieldset>
</template>

<style scoped>
.conditions { width: 100%; display: grid; gap: 0.4rem; justify-items: start; }
legend { font-size: 0.9rem; margin: 0; }
li { display: flex; flex-wrap: wrap; gap: 0.2rem 0.5rem; align-items: baseline; border-left: 3px solid var(--line); padding: 0.15rem 0 0.15rem 0.7rem; margin-bottom: 0.3rem; }
.one .btn { padding: 0 0.2rem; vertical-align: baseline; }
p { margin: 0; }
.form { display: grid; gap: 0.6rem; width: 100%; border: 1px solid var(--line); border-radius: 0.4rem; padding: 0.7rem; }
.form > label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.checks { display: grid; gap: 0.25rem; }
.checks.row { display: flex; flex-wrap: wrap; gap: 0.3rem 0.9rem; margin: 0; }
.check { display: flex; gap: 0.5rem; align-items: center; width: auto; font-size: 0.9rem; }
.problem { color: var(--alarm); }
</style>
