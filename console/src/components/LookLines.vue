<script setup lang="ts">
import { computed } from 'vue'

import type { components } from '../schema'

type Line = components['schemas']['LookLineTold']

/** The lines of a look at one place: what is live now, what will be, and what of it is new. */
const props = defineProps<{ leg: components['schemas']['LegLookTold']; every: boolean }>()

const shown = computed(() => props.leg.lines.filter((line) => props.every || line.changed))
const parts = computed(() => {
  const found = new Map<string, Line[]>()
  for (const line of shown.value) found.set(line.part_title, [...(found.get(line.part_title) ?? []), line])
  return [...found.entries()]
})
const same = computed(() => props.leg.lines.length - shown.value.length)
const drawn = (line: Line) => line.part === 'pictures' || (line.part === 'goods' && (line.new_members.length > 0 || line.live_members.length > 0))
const listed = (line: Line) => !drawn(line) && (line.new_members.length > 0 || line.live_members.length > 0)
const stays = (line: Line) => line.new_members.filter((one) => !line.added.includes(one))
const MOST_NAMED = 12
</script>

<template>
  <p v-if="!shown.length" class="soft">Nothing differs from what is live.</p>
  <div v-for="([title, lines], at) in parts" :key="title" class="part">
    <h3>{{ title }}</h3>
    <table class="table look" :aria-label="title">
      <colgroup><col style="width: 24%" /><col v-if="leg.live_version" style="width: 38%" /><col /></colgroup>
      <thead :class="{ 'visually-hidden': at > 0 || !leg.live_version }"><tr><th scope="col">What</th><th v-if="leg.live_version" scope="col">Live now</th><th scope="col">Will be</th></tr></thead>
      <tbody>
        <tr v-for="line in lines" :key="line.place" :class="{ changed: line.changed }">
          <th scope="row"><span v-if="line.changed && leg.live_known" class="news" title="it changes">◆<span class="visually-hidden"> changes: </span></span> {{ line.title }}</th>
          <td v-if="leg.live_version" data-label="Live now">
            <span v-if="line.live === null" class="soft">–</span>
            <template v-else>
              <span v-if="line.live" class="text">{{ line.live }}</span>
              <span v-if="drawn(line)" class="pictures"><img v-for="one in line.live_members" :key="one" :src="`/v1/pictures/${one}/small`" :alt="`${line.title}, live`" loading="lazy" /></span>
              <ul v-else-if="listed(line)" class="plain-list"><li v-for="one in line.removed" :key="one" class="gone">− {{ one }}</li><li v-if="!line.removed.length" class="soft">{{ line.live_members.length }}</li></ul>
            </template>
          </td>
          <td data-label="Will be">
            <span v-if="line.new === null" class="gone">taken out</span>
            <template v-else>
              <span v-if="line.new" class="text">{{ line.new }}</span>
              <span v-if="drawn(line)" class="pictures"><img v-for="one in line.new_members" :key="one" :src="`/v1/pictures/${one}/small`" :alt="`${line.title}, as it will be`" :class="{ added: line.added.includes(one) }" loading="lazy" /></span>
              <ul v-else-if="listed(line)" class="plain-list">
                <li v-for="one in line.added" :key="one" class="added">+ {{ one }}</li>
                <li v-if="stays(line).length" class="soft">{{ stays(line).slice(0, MOST_NAMED).join(', ') }}<template v-if="stays(line).length > MOST_NAMED"> and {{ stays(line).length - MOST_NAMED }} more</template></li>
              </ul>
            </template>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="same && shown.length" class="soft small-print">{{ same }} more stay as they are live.</p>
</template>

<style scoped>
h3 { font-size: 0.95rem; margin: 0.3rem 0 0.2rem; }
p { margin: 0; }
.look { table-layout: fixed; margin: 0; }
.look th[scope='row'] { font-weight: 600; overflow-wrap: anywhere; }
.look td { overflow-wrap: anywhere; }
.text { white-space: pre-line; }
.news { color: var(--accent); }
.gone { color: var(--alarm); }
li.added { color: var(--accent); font-weight: 600; }
.pictures { display: flex; flex-wrap: wrap; gap: 0.35rem; }
.pictures img { max-height: 7rem; max-width: 7rem; border: 1px solid var(--line); border-radius: 0.25rem; }
.pictures img.added { outline: 3px solid var(--accent); }
@media (max-width: 620px) {
  .look thead { display: none; }
  .look, .look tbody, .look tr, .look th, .look td { display: block; width: auto !important; }
  .look td::before { content: attr(data-label); display: block; color: var(--soft); font-size: 0.8rem; }
}
</style>
