<script setup lang="ts">
import { computed } from 'vue'

import type { components } from '../schema'
import { BANDS } from '../states'
import { onTheDay, percent } from '../telling'

type Strip = components['schemas']['StripTold']
type Store = Strip['stores'][number]

/** What new people were offered over time, a store below the other: a band for each version, its part as height. */
const props = defineProps<{ strip: Strip }>()
const emit = defineEmits<{ chosen: [at: string] }>()
const from = computed(() => new Date(props.strip.since).getTime())
const wide = computed(() => new Date(props.strip.until).getTime() - from.value)
/** How far along an instant is, in hundredths. */
const along = (at: string | number) => ((new Date(at).getTime() - from.value) / wide.value) * 100

const colours = computed(() => {
  const seen = new Map<string, number>()
  for (const store of props.strip.stores) for (const part of store.stretches) for (const layer of part.layers) seen.set(layer.version, Math.min(seen.get(layer.version) ?? Infinity, new Date(part.since).getTime()))
  const inOrder = [...seen].sort((one, other) => one[1] - other[1]).map(([version]) => version)
  return Object.fromEntries(inOrder.map((version, at) => [version, BANDS[at % BANDS.length]!]))
})
function bands(store: Store) {
  return store.stretches.flatMap((part, at) => {
    let floor = 0
    return [...part.layers].reverse().map((layer) => {
      const band = { key: `${at} ${layer.version}`, version: layer.version, left: along(part.since), width: along(part.until) - along(part.since), bottom: floor * 100, height: layer.part * 100, said: `${layer.version} to ${percent(layer.part)} of new people, ${onTheDay(part.since)} to ${onTheDay(part.until)}` }
      floor += layer.part
      return band
    })
  })
}
const stops = (store: Store) => store.marks.filter((mark) => ['halted', 'withdrawn'].includes(mark.state))
const ticks = computed(() => {
  const found: { at: number; said: string }[] = []
  const days = wide.value / 86_400_000
  const months = days > 400 ? 3 : days > 75 ? 1 : 0
  const next = new Date(from.value)
  next.setHours(24, 0, 0, 0)
  if (months) next.setDate(1)
  const step = Math.max(1, Math.ceil(days / 8))
  for (; next.getTime() < from.value + wide.value; months ? next.setMonth(next.getMonth() + months) : next.setDate(next.getDate() + step)) {
    const at = along(next.getTime())
    if (at > 1 && at < 97) found.push({ at, said: next.toLocaleDateString('en-GB', months ? { month: 'short', ...(next.getMonth() < months ? { year: 'numeric' } : {}) } : { day: 'numeric', month: 'short' }) })
  }
  return found
})
function chosen(event: MouseEvent): void {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
  emit('chosen', new Date(from.value + ((event.clientX - box.left) / box.width) * wide.value).toISOString())
}
</script>

<template>
  <div class="strips">
    <template v-for="store in strip.stores" :key="store.store">
      <span class="store">{{ store.store_title }}</span>
      <div class="track" role="img" :aria-label="`${store.store_title}: ${store.stretches.length} stretches, listed in the table below`" title="Click to see this instant" @click="chosen">
        <span v-for="tick in ticks" :key="tick.at" class="grid" :style="{ left: `${tick.at}%` }" />
        <span v-for="band in bands(store)" :key="band.key" class="band" :title="band.said" :style="{ left: `${band.left}%`, width: `${band.width}%`, bottom: `${band.bottom}%`, height: `${band.height}%`, background: colours[band.version] }"><template v-if="band.width > 6 && band.height >= 25">{{ band.version }}</template></span>
        <span v-for="mark in stops(store)" :key="mark.at + mark.version" class="stop" :title="`${mark.version} ${mark.state}, ${onTheDay(mark.at)}`" :style="{ left: `${along(mark.at)}%` }">{{ mark.state === 'halted' ? '✕' : '▼' }}</span>
        <span v-if="!store.stretches.length" class="nothing">nothing was seen there in this time</span>
      </div>
    </template>
    <span />
    <div class="axis" aria-hidden="true"><span v-for="tick in ticks" :key="tick.at" :style="{ left: `${tick.at}%` }">{{ tick.said }}</span></div>
  </div>
  <p class="soft small-print">The height of a band is the part of new people. <strong class="sign">✕</strong> halted <strong class="sign">▼</strong> withdrawn</p>
</template>

<style scoped>
.strips { display: grid; grid-template-columns: auto minmax(0, 1fr); gap: 0.6rem 0.9rem; align-items: center; }
.store { font-weight: 600; }
.track { position: relative; height: 74px; background: var(--paper); border: 1px solid var(--line); border-radius: 4px; overflow: hidden; cursor: crosshair; }
.band { position: absolute; display: grid; place-items: center; overflow: hidden; font-size: 0.8rem; line-height: 1; color: #17282f; white-space: nowrap; }
.grid { position: absolute; top: 0; bottom: 0; border-left: 1px solid var(--line); }
.stop { position: absolute; top: 50%; transform: translate(-50%, -50%); background: var(--card); color: var(--alarm); border: 1px solid var(--alarm); border-radius: 50%; width: 1.35rem; height: 1.35rem; display: grid; place-items: center; font-size: 0.8rem; font-weight: 700; line-height: 1; }
.nothing { position: absolute; inset: 0; display: grid; place-items: center; color: var(--soft); font-size: 0.85rem; }
.axis { position: relative; height: 1.2rem; color: var(--soft); font-size: 0.8rem; }
.axis span { position: absolute; transform: translateX(-50%); white-space: nowrap; }
.sign { color: var(--alarm); margin-left: 0.6rem; }
p { margin: 0.3rem 0 0; }
@media (max-width: 600px) { .strips { grid-template-columns: minmax(0, 1fr); gap: 0.2rem; } .strips > span:empty { display: none; } }
</style>
