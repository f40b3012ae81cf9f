<script setup lang="ts">
import { computed } from 'vue'

import type { BuildNumbers } from '../api'
import { percent } from '../telling'

/** Sessions by day for each build, and how many of them ended in a crash; the same figures stand in the table beside it. */
const props = defineProps<{ builds: BuildNumbers[] }>()
const W = 1100
const H = 150
const days = computed(() => {
  const found = [...new Set(props.builds.flatMap((build) => build.days.map((day) => day.day)))].sort()
  return found.slice(-28)
})
const rows = computed(() => days.value.map((day) => {
  const here = props.builds.flatMap((build) => build.days.filter((entry) => entry.day === day))
  return { day, sessions: here.reduce((sum, entry) => sum + entry.sessions, 0), crashed: here.reduce((sum, entry) => sum + entry.crashed, 0) }
}))
const most = computed(() => Math.max(1, ...rows.value.map((row) => row.sessions)))
const wide = computed(() => W / Math.max(rows.value.length, 7))
const tall = (count: number) => (count / most.value) * (H - 24)
const total = computed(() => rows.value.reduce((sum, row) => ({ sessions: sum.sessions + row.sessions, crashed: sum.crashed + row.crashed }), { sessions: 0, crashed: 0 }))
const short = (day: string) => new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' }).format(new Date(day))
</script>

<template>
  <figure v-if="rows.length">
    <svg :viewBox="`0 0 ${W} ${H}`" role="img" :aria-label="`Sessions by day: ${total.sessions} in all, ${total.crashed} ended in a crash`">
      <line :x2="W" :y1="H - 20" :y2="H - 20" class="ground" />
      <g v-for="(row, place) in rows" :key="row.day" :transform="`translate(${place * wide} 0)`">
        <title>{{ short(row.day) }}: {{ row.sessions }} sessions, {{ row.crashed }} ended in a crash</title>
        <rect :x="wide * 0.15" :width="wide * 0.7" :y="H - 20 - tall(row.sessions)" :height="tall(row.sessions)" class="sessions" />
        <rect v-if="row.crashed" :x="wide * 0.15" :width="wide * 0.7" :y="H - 20 - Math.max(tall(row.crashed), 3)" :height="Math.max(tall(row.crashed), 3)" class="crashed" />
        <text v-if="place % Math.ceil(rows.length / 7) === 0" :x="wide * 0.15" :y="H - 5">{{ short(row.day) }}</text>
      </g>
      <text :x="W" y="11" class="top">at most {{ most }} a day</text>
    </svg>
    <figcaption class="soft small-print"><span class="key sessions" /> sessions a day <span class="key crashed" /> ended in a crash · {{ total.sessions.toLocaleString('en') }} in all, {{ total.sessions ? percent(1 - total.crashed / total.sessions) : '' }} without a crash</figcaption>
  </figure>
  <p v-else class="soft">No store has told of any use yet; it is asked every half hour while a trial is open.</p>
</template>

<style scoped>
figure { margin: 0; }
svg { width: 100%; }
.ground { stroke: var(--line); }
.sessions { fill: var(--water-deep); background: var(--water-deep); }
.crashed { fill: var(--alarm); background: var(--alarm); }
text { font-size: 11px; fill: var(--soft); }
.top { text-anchor: end; }
.key { display: inline-block; width: 0.7rem; height: 0.7rem; border-radius: 2px; margin: 0 0.25rem 0 0.5rem; }
</style>
