<script setup lang="ts">
import { computed } from 'vue'

import { api, told } from '../api'
import { useLive } from '../live'
import { useLoading } from '../loading'
import { elsewhere, LEVEL_MARKS, MARKS, type PlaceSheet, type Readiness, type Thing, VERDICTS, wayTo } from '../readiness'
import Explained from './Explained.vue'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** What stops a release, store by store: why, and where to fix it. Without a version, of the release to come. */
const props = defineProps<{ app: string; version?: string; places?: string[] }>()
const { data, problem, load } = useLoading<Readiness>(() =>
  props.version
    ? told(api.GET('/v1/apps/{app}/releases/{version}/readiness', { params: { path: { app: props.app, version: props.version } } }))
    : told(api.GET('/v1/apps/{app}/readiness', { params: { path: { app: props.app } } })),
)
useLive(load, (change) => change.app === props.app || change.app === null)

const shown = computed(() => (data.value?.places ?? []).filter((place) => !props.places || props.places.includes(place.place)))
const first = (place: PlaceSheet) => place.things.filter((thing) => thing.needed && !thing.folded)
const folded = (place: PlaceSheet) => place.things.filter((thing) => !thing.needed || thing.folded)
const said = (thing: Thing) => thing.findings.filter((found) => !thing.reason.includes(found.detail))
/** Whether the app has a place there, or has asked for one. */
const placed = (place: PlaceSheet) => place.things.some((thing) => thing.kind === 'berth' && thing.state !== 'missing' && thing.state !== 'locked') || shown.value.length === 1
const later = (place: PlaceSheet) => new Date(place.day).getTime() - Date.now() > 3_600_000
</script>

<template>
  <ProblemNote :problem="problem" />
  <section v-if="shown.length" class="card-plain ready" aria-labelledby="ready">
    <h2 id="ready"><Explained word="readiness sheet" said="Is it ready?" /></h2>
    <details v-for="place in shown" :key="place.place" :open="place.verdict !== 'ready' && placed(place)" class="place">
      <summary>
        <span class="name">{{ place.place_title }}</span>
        <span :class="place.verdict" class="verdict">{{ VERDICTS[place.verdict].mark }} {{ VERDICTS[place.verdict].said }}</span>
        <span class="bar" role="img" :aria-label="`${place.done} of ${place.needed} are there`"><span :style="{ width: `${(100 * place.done) / Math.max(place.needed, 1)}%` }" /></span>
        <span class="soft small-print">{{ place.done }} of {{ place.needed }}<template v-if="place.usual_hours">, the rest usually takes {{ place.usual_hours < 48 ? `${Math.round(place.usual_hours * 10) / 10} h` : `${Math.round(place.usual_hours / 24)} days` }}</template><template v-if="later(place)">, planned for <Moment :at="place.day" /></template></span>
      </summary>
      <p v-for="line in place.announced" :key="line" class="announced">▲ {{ line }}</p>
      <ul class="plain-list">
        <li v-for="thing in first(place)" :key="thing.key" :class="thing.state.replace(' ', '-')">
          <span class="sign" aria-hidden="true">{{ MARKS[thing.state] }}</span>
          <div>
            <strong>{{ thing.title }}</strong> <span class="state">{{ thing.state }}</span>
            <RouterLink v-if="wayTo(thing, app, version ?? null, place.means)" class="mend" :to="wayTo(thing, app, version ?? null, place.means)!.to">{{ wayTo(thing, app, version ?? null, place.means)!.said }}</RouterLink>
            <p v-if="thing.reason">{{ thing.reason }} <span v-if="elsewhere(thing, place.store_title)" class="soft">{{ elsewhere(thing, place.store_title) }}</span></p>
            <p v-for="found in said(thing)" :key="found.code + found.place + found.detail" class="found">{{ LEVEL_MARKS[found.level] }} {{ found.detail }}</p>
            <p v-if="thing.help && thing.state !== 'done'" class="soft">{{ thing.help }}</p>
          </div>
        </li>
      </ul>
      <details v-if="folded(place).length" class="rest-of">
        <summary>{{ folded(place).length }} more, not needed or not changed by this release</summary>
        <ul class="plain-list">
          <li v-for="thing in folded(place)" :key="thing.key" :class="thing.state.replace(' ', '-')"><span class="sign" aria-hidden="true">{{ MARKS[thing.state] }}</span><div>{{ thing.title }} <span class="state">{{ thing.state }}</span> <span class="soft">{{ thing.reason }}</span></div></li>
        </ul>
      </details>
    </details>
  </section>
</template>

<style scoped>
.ready { margin-bottom: 1rem; }
h2 { margin-bottom: 0.4rem; }
.place { border-top: 1px solid var(--line); padding: 0.45rem 0; }
.place > summary { display: grid; grid-template-columns: minmax(8rem, 14rem) minmax(8rem, 19rem) 6rem 1fr; gap: 0.2rem 1rem; align-items: center; cursor: pointer; list-style: none; }
.place > summary::-webkit-details-marker { display: none; }
.name { font-weight: 600; }
.name::before { content: '▸'; display: inline-block; width: 1.1rem; color: var(--soft); font-weight: 400; }
.place[open] > summary .name::before { content: '▾'; }
.verdict.blocked { color: var(--alarm); font-weight: 600; }
.verdict.cautions { color: var(--care); font-weight: 600; }
.bar { height: 0.5rem; border-radius: 0.25rem; background: var(--line); overflow: hidden; }
.bar span { display: block; height: 100%; background: var(--accent); }
.plain-list { margin: 0.4rem 0 0.2rem 1.1rem; }
.plain-list li { display: grid; grid-template-columns: 1.3rem 1fr; padding: 0.25rem 0; }
.plain-list p { margin: 0; }
.state { color: var(--soft); font-size: 0.9rem; margin: 0 0.5rem 0 0.2rem; }
.missing > .sign { color: var(--alarm); }
.doubtful > .sign, .waiting > .sign { color: var(--care); }
.announced { background: var(--care-soft); border-left: 4px solid var(--care); border-radius: 0.35rem; padding: 0.4rem 0.8rem; margin: 0.4rem 0 0.2rem 1.1rem; }
.rest-of { margin: 0.2rem 0 0 1.1rem; font-size: 0.9rem; }
.rest-of summary { color: var(--accent); }
@media (max-width: 720px) { .place > summary { grid-template-columns: 1fr auto; } .bar { grid-column: 1 / -1; } }
</style>
