<script setup lang="ts">
import { computed } from 'vue'

import { api, told } from '../api'
import { type Course, type Watch } from '../guarding'
import { useLive } from '../live'
import { useLoading } from '../loading'
import GuardWatch from './GuardWatch.vue'
import LineChart from './LineChart.vue'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** How a rollout is doing: what each guard says, and its course over time at every store. */
const props = defineProps<{ app: string; version: string }>()
const path = { app: props.app, version: props.version }
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
const { data, problem, load } = useLoading<{ watches: Watch[]; course: Course[] }>(async () => {
  const [watches, course] = await Promise.all([
    told(api.GET('/v1/apps/{app}/releases/{version}/watches', { params: { path } })),
    told(api.GET('/v1/apps/{app}/releases/{version}/course', { params: { path } })),
  ])
  return { watches, course }
})
useLive(load, (change) => change.app === props.app || change.app === null)

const rate = (part: number, whole: number) => (whole ? part / whole : null)
const drawn = computed(() =>
  (data.value?.course ?? []).map((one) => {
    const at = one.points.map((point) => ({ ...point, x: new Date(point.at).getTime() }))
    const shareAt = (x: number) => at.filter((point) => point.x <= x).pop()?.share ?? at[0]?.share ?? 0
    const marks = one.marks.map((mark) => ({ x: new Date(mark.at).getTime(), y: mark.share ?? shareAt(new Date(mark.at).getTime()), note: `${mark.act}, ${mark.who}${mark.reason ? `: ${mark.reason}` : ''}` }))
    const last = at[at.length - 1]
    const sum = (key: 'sessions' | 'crashed_people' | 'reference_sessions' | 'reference_crashed_people') => at.reduce((total, point) => total + point[key], 0)
    return {
      ...one,
      lines: [
        { label: 'Share of people', points: at.map((point) => ({ x: point.x, y: point.share })), colour: '--water-deep', fill: true, step: true },
        { label: `People who met a crash, ${props.version}`, points: at.map((point) => ({ x: point.x, y: point.rate })), colour: '--alarm', right: true },
        ...(one.reference ? [{ label: `People who met a crash, ${one.reference}`, points: at.map((point) => ({ x: point.x, y: point.reference_rate })), colour: '--soft', dashed: true, right: true }] : []),
        { label: 'Acts and verdicts', points: marks, colour: '--ink', dots: true },
      ],
      people: last?.people ?? 0,
      ours: rate(sum('crashed_people'), sum('sessions')),
      theirs: rate(sum('reference_crashed_people'), sum('reference_sessions')),
      counted: sum('sessions') > 0,
    }
  }),
)
const spoken = (part: number | null) => `${((part ?? 0) * 1000).toLocaleString('en', { maximumFractionDigits: 1 })} of 1,000`
</script>

<template>
  <section class="card-plain health" aria-labelledby="health">
    <div class="page-head"><h2 id="health">How it is doing</h2><span class="row-gap"><a :href="`/v1/apps/${app}/releases/${version}/picture?zone=${encodeURIComponent(zone)}`" :download="`${app}-${version}.png`">As a picture</a><RouterLink :to="`/apps/${app}/guards`">Guards of this app</RouterLink></span></div>
    <ProblemNote :problem="problem" />
    <template v-if="data">
      <p v-if="!data.watches.length" class="soft">No guard watches this rollout. <RouterLink :to="`/apps/${app}/guards`">Add one</RouterLink>: it can stop a bad build when no one is watching.</p>
      <div v-else class="watches"><GuardWatch v-for="one in data.watches" :key="`${one.guard.id}/${one.place}`" :app="app" :version="version" :watch="one" @changed="load" /></div>
      <figure v-for="one in drawn" :key="one.place">
        <figcaption>
          <strong>{{ one.title }}</strong>: <template v-if="one.counted">{{ one.people.toLocaleString('en') }} people have begun {{ version }}; in {{ spoken(one.ours) }} sessions a person met a crash<template v-if="one.theirs !== null">, with {{ one.reference }} in {{ spoken(one.theirs) }} of the same hours</template>.</template>
          <span v-else class="soft">nothing was counted here yet.</span>
        </figcaption>
        <template v-if="one.counted">
          <LineChart :label="`The course of ${version} at ${one.title}: share of people, and how often people met a crash`" :lines="one.lines" left="share of people" right="met a crash, a session" :top="1" />
          <p class="small-print soft keys"><span class="key water" /> share of people <span class="key alarm" /> met a crash, {{ version }} <template v-if="one.reference"><span class="key dash" /> {{ one.reference }}</template> ◆ acts and verdicts</p>
        </template>
        <details v-if="one.marks.length"><summary>Acts and verdicts</summary><ul class="small-print"><li v-for="mark in one.marks" :key="`${mark.at} ${mark.act}`"><Moment :at="mark.at" />: <strong>{{ mark.act }}</strong>, {{ mark.who }}<template v-if="mark.reason">: {{ mark.reason }}</template></li></ul></details>
      </figure>
    </template>
    <p v-else-if="!problem" class="soft" role="status">Loading …</p>
  </section>
</template>

<style scoped>
.health { margin-top: 1rem; display: grid; gap: 0.8rem; }
.health .page-head { margin: 0; }
.watches { display: grid; gap: 0.9rem; }
figure { margin: 0.4rem 0 0; display: grid; gap: 0.4rem; }
.keys { margin: 0; }
.key { display: inline-block; width: 1.2rem; height: 0.6rem; margin: 0 0.2rem 0 0.6rem; vertical-align: middle; border-radius: 2px; }
.key.water { background: color-mix(in srgb, var(--water-deep) 45%, transparent); border-top: 2px solid var(--water-deep); }
.key.alarm { height: 3px; background: var(--alarm); }
.key.dash { height: 0; border-top: 2px dashed var(--soft); }
summary { color: var(--accent); font-size: 0.9rem; }
ul { margin: 0.3rem 0; padding-left: 1.1rem; }
</style>
