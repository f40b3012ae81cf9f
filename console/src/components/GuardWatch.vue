<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told } from '../api'
import { doesOf, type EvidencePoint, verdictOf, type Watch } from '../guarding'
import { useDoing } from '../loading'
import { EVENTS, GUARD, UNITS } from '../states'
import LineChart from './LineChart.vue'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** What one guard says of a rollout, with its evidence, and the way to silence it. */
const props = defineProps<{ app: string; version: string; watch: Watch }>()
const emit = defineEmits<{ changed: [] }>()
const doing = useDoing()
const line = ref<EvidencePoint[] | null>(null)
const silencing = ref(false)
const hours = ref(12)
const reason = ref('')
const path = { app: props.app, version: props.version, guard: props.watch.guard.name }
const verdict = computed(() => verdictOf(props.watch))
const found = computed(() => props.watch.breach?.found ?? props.watch.found)
/** Of a breach the evidence as it was then, else as it is now; from nothing on. */
const points = computed(() => {
  const known = props.watch.breach?.line ?? line.value ?? []
  const begins = found.value?.begins_at
  return [...(known.length && begins ? [{ x: new Date(begins).getTime(), y: 0 }] : []), ...known.map((point) => ({ x: new Date(point.at).getTime(), y: point.way }))]
})
const lines = computed(() => {
  const ends = [points.value[0]!, points.value[points.value.length - 1]!]
  return [
    { label: 'Evidence', points: points.value, colour: '--accent', fill: true },
    { label: 'A breach', points: ends.map((end) => ({ x: end.x, y: 1 })), colour: '--alarm', dashed: true },
  ]
})

async function show(): Promise<void> {
  await doing.run(async () => {
    const rows = await told(api.GET('/v1/apps/{app}/releases/{version}/watches/{guard}', { params: { path } }))
    line.value = rows.find((row) => row.place === props.watch.place)?.line ?? []
  })
}
async function silence(hours: number | null): Promise<void> {
  const done = await doing.run(
    async () => void (await told(api.PUT('/v1/apps/{app}/releases/{version}/watches/{guard}/silence', { params: { path }, body: { hours, reason: reason.value } }))),
    hours ? `${props.watch.guard.name} is silent; it continues to count` : `${props.watch.guard.name} speaks again`,
  )
  if (!done) return
  silencing.value = false
  emit('changed')
}
</script>

<template>
  <article class="watch" :class="`is-${verdict.kind}`" :aria-label="`${watch.guard.name}, ${watch.place ?? 'all stores together'}`">
    <header class="row-gap">
      <span class="verdict">{{ verdict.sign }} {{ verdict.word }}</span>
      <h3>{{ watch.guard.name }}</h3>
      <span class="soft small-print">{{ watch.place ?? 'all stores together' }} · since <Moment :at="watch.verdict_since" /></span>
    </header>
    <p v-if="watch.breach" class="said"><strong>{{ watch.breach.said }}.</strong> <template v-if="watch.breached_at">Sure <Moment :at="watch.breached_at" />. </template>{{ watch.acted || 'It is silent, so nothing was done.' }}</p>
    <p v-else class="said">{{ watch.blind || watch.said }}</p>
    <p v-if="watch.silent" class="soft small-print">◑ Silent until <Moment :at="watch.silent_until!" />, by {{ watch.silent_by }}: {{ watch.silent_reason }} <BButton data-needs="steer" size="sm" variant="link" :disabled="doing.busy.value" @click="silence(null)">Have it speak again</BButton></p>
    <details @toggle="($event.target as HTMLDetailsElement).open && !line && !watch.breach && show()">
      <summary>The evidence</summary>
      <LineChart v-if="points.length" :label="`Evidence of ${watch.guard.name}, as a part of the way to a breach`" :lines="lines" left="evidence" :top="1" :height="150" />
      <p v-else-if="line" class="soft small-print">Nothing is counted yet that tells anything.</p>
      <table v-if="found" class="figures small-print">
        <thead><tr><th /><th>{{ version }}</th><th>{{ found.reference }}</th></tr></thead>
        <tbody>
          <tr><th scope="row">{{ UNITS[watch.guard.watched] }} looked at</th><td>{{ found.exposed.toLocaleString('en') }}</td><td>{{ found.reference_exposed.toLocaleString('en') }}</td></tr>
          <tr><th scope="row">{{ EVENTS[watch.guard.watched] }}</th><td>{{ found.events.toLocaleString('en') }}</td><td>{{ found.reference_events.toLocaleString('en') }}</td></tr>
        </tbody>
      </table>
      <ul class="small-print soft">
        <li>{{ watch.guard.said }} When it is sure, it {{ doesOf(watch.guard) }}.</li>
        <li v-if="found">{{ found.people.toLocaleString('en') }} people have this version; the guard acts from {{ watch.guard.least_people.toLocaleString('en') }} on.</li>
        <li v-if="found && found.dispersion > 1">One person can stand in these counts many times, so the evidence is divided by {{ found.dispersion.toFixed(1) }}, as far as the counts of {{ found.reference }} came in clusters.</li>
        <li v-if="found?.corrected">{{ found.corrected }} hours were corrected after they had been complete; they count as they are now. What was said at a breach stays as it was.</li>
      </ul>
      <div v-if="!watch.silent">
        <BButton data-needs="steer" v-if="!silencing" size="sm" variant="link" @click="silencing = true">Silence it here</BButton>
        <form v-else class="row-gap" @submit.prevent="silence(hours)">
          <label class="row-gap">For <input v-model.number="hours" type="number" min="1" :max="GUARD.longestSilenceHours" class="form-control form-control-sm hours" required /> hours</label>
          <label class="row-gap grow">Why <input v-model="reason" class="form-control form-control-sm" required maxlength="300" placeholder="it stands in the logbook" /></label>
          <BButton data-needs="steer" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Silence it</BButton>
          <BButton size="sm" variant="link" @click="silencing = false">Cancel</BButton>
        </form>
      </div>
    </details>
    <ProblemNote :problem="doing.problem.value" />
  </article>
</template>

<style scoped>
.watch { border-left: 4px solid var(--line); padding: 0.3rem 0 0.3rem 0.9rem; display: grid; gap: 0.3rem; }
.is-breach { border-color: var(--alarm); }
.is-watch, .is-steady { border-color: var(--water-deep); }
.is-blind { border-color: var(--care); }
.verdict { font-weight: 650; text-transform: capitalize; }
.is-breach .verdict { color: var(--alarm); }
.is-blind .verdict { color: var(--care); }
.said { margin: 0; }
summary { color: var(--accent); font-size: 0.9rem; }
.figures { margin: 0.5rem 0; }
.figures th, .figures td { padding: 0.1rem 1.2rem 0.1rem 0; text-align: right; font-weight: 400; }
.figures th[scope='row'] { text-align: left; color: var(--soft); }
.figures thead th { font-weight: 600; }
ul { margin: 0.3rem 0; padding-left: 1.1rem; }
.hours { width: 5rem; }
.grow { flex: 1; min-width: 14rem; }
.grow input { flex: 1; }
</style>
