<script setup lang="ts">
import { computed } from 'vue'

import type { Phase, Stage } from '../api'
import { LEG_LAUNCHED } from '../states'
import { hours, percent } from '../telling'

const props = defineProps<{
  stages: Stage[]
  share: number
  phase: Phase
  seenShare?: number | null
  confirmed?: boolean
  small?: boolean
}>()

const TOP = 14
const FOOT = 226
const SMALL = { top: 4, foot: 50 }

/** Small shares matter most, so the scale follows the square root: 2%, 10% and 35% stand apart. */
function level(share: number): number {
  const { top, foot } = props.small ? SMALL : { top: TOP, foot: FOOT }
  return foot - Math.sqrt(share) * (foot - top)
}

const launched = computed(() => LEG_LAUNCHED.includes(props.phase))
const water = computed(() => (launched.value && props.phase !== 'withdrawn' ? props.share : 0))
const differs = computed(() => launched.value && props.seenShare != null && Math.abs(props.seenShare - props.share) > 1e-9)
const still = computed(() => ['halted', 'superseded'].includes(props.phase))
const told = computed(() => {
  const base = launched.value ? `${props.phase} at ${percent(props.share)}` : `not launched; the ladder has ${props.stages.length} stages`
  return props.confirmed === false ? `${base}, ordered, not confirmed` : base
})
/** What ends a stage, in the little room beside its mark. */
function ends(stage: Stage): string[] {
  return [...(stage.dwell_hours != null ? [`hold ${hours(stage.dwell_hours)}`] : []), ...(stage.steady_hours != null ? [`steady ${hours(stage.steady_hours)}`] : [])]
}
const wave = computed(() => {
  const y = level(water.value)
  return `M8 ${y} q 8 -5 16 0 t 16 0 t 16 0 V ${FOOT} H 8 Z`
})
</script>

<template>
  <svg v-if="small" class="small" viewBox="0 0 40 54" role="img" :aria-label="told">
    <rect x="8" :y="SMALL.top" width="22" :height="SMALL.foot - SMALL.top" rx="3" class="bed" />
    <rect v-if="water" x="8" class="water" :class="{ still }" :y="level(water)" width="22" :height="SMALL.foot - level(water)" rx="2" />
    <path v-for="stage in stages" :key="stage.share" :d="`M30 ${level(stage.share)}h6`" class="mark" />
    <path v-if="phase === 'paused'" d="M15 20v14M23 20v14" class="sign" />
    <path v-if="phase === 'halted'" d="M13 21l12 12M25 21l-12 12" class="sign" />
  </svg>
  <svg v-else class="large" viewBox="0 0 200 244" role="img" :aria-label="told">
    <defs>
      <pattern id="still" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><path d="M0 0v7" stroke="var(--alarm)" stroke-width="2.500" /></pattern>
    </defs>
    <rect x="8" :y="TOP" width="48" :height="FOOT - TOP" rx="5" class="bed" />
    <path v-if="water && water < 1" :d="wave" class="water" :class="{ still }" />
    <rect v-else-if="water" x="8" :y="TOP" width="48" :height="FOOT - TOP" rx="5" class="water" :class="{ still }" />
    <path v-if="phase === 'halted' && water" :d="water < 1 ? wave : `M8 ${TOP}h48V${FOOT}H8Z`" fill="url(#still)" opacity="0.55" />
    <path v-if="differs" :d="`M4 ${level(seenShare ?? 0)}h56`" class="seen" />
    <g v-for="(stage, place) in stages" :key="place">
      <path :d="`M56 ${level(stage.share)}h${place === stages.length - 1 ? 16 : 11}`" class="mark" />
      <text x="77" :y="level(stage.share) + 4.5" :class="{ reached: launched && share >= stage.share }">{{ percent(stage.share) }}</text>
      <text v-for="(said, line) in ends(stage)" :key="said" x="120" :y="level(stage.share) + 4.5 + 13 * line" class="dwell">{{ said }}</text>
    </g>
    <path v-if="phase === 'paused'" :d="`M24 ${level(water) - 26}v16M40 ${level(water) - 26}v16`" class="sign" />
    <path v-if="phase === 'halted'" :d="`M22 ${level(water) - 26}l20 16M42 ${level(water) - 26}l-20 16`" class="sign" />
  </svg>
</template>

<style scoped>
.large { width: 200px; max-width: 100%; height: auto; display: block; }
.small { width: 34px; height: 46px; display: block; flex: none; }
.bed { fill: color-mix(in srgb, var(--line) 45%, transparent); stroke: var(--line); }
.water { fill: var(--water); }
.water.still { fill: color-mix(in srgb, var(--water) 55%, var(--line)); }
.mark { stroke: var(--ink); stroke-width: 1.5; fill: none; }
.seen { stroke: var(--care); stroke-width: 2.5; stroke-dasharray: 5 3; }
.sign { stroke: var(--ink); stroke-width: 5; stroke-linecap: round; fill: none; }
.small .sign { stroke-width: 4; }
text { font-size: 13px; fill: var(--soft); }
text.reached { fill: var(--ink); font-weight: 650; }
.dwell { font-size: 11.5px; fill: var(--soft); }
</style>
