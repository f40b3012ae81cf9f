<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Comparison } from '../api'
import { size } from '../telling'

/** Two builds side by side: what must be noticed first, then what grew. */
const props = defineProps<{ comparison: Comparison }>()
const MARKS: Record<string, string> = { blocker: '✕', caution: '▲', note: '·' }
const whole = ref(false)
const grown = computed(() => [...props.comparison.grown].sort((one, other) => Math.abs(other.by_bytes) - Math.abs(one.by_bytes)))
const largest = computed(() => Math.max(...grown.value.map((part) => Math.abs(part.by_bytes)), 1))
const bytes = (text: string) => (/^\d+ bytes$/.test(text) ? size(Number(text.split(' ')[0])) : text)
</script>

<template>
  <p v-if="!comparison.differences.length" class="soft">No difference that a person would notice.</p>
  <div v-else class="scroll-x">
    <table class="table-plain">
      <thead><tr><th><span class="visually-hidden">Level</span></th><th>What</th><th>{{ comparison.before.label }}</th><th>{{ comparison.after.label }}</th></tr></thead>
      <tbody>
        <tr v-for="entry in comparison.differences" :key="entry.code + entry.title" :class="entry.level">
          <td><span class="sign">{{ MARKS[entry.level] }}</span><span class="visually-hidden">{{ entry.level }}</span></td>
          <td>{{ entry.title }}</td>
          <td class="value">{{ bytes(entry.before) }}</td>
          <td class="value">{{ bytes(entry.after) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <template v-if="grown.length">
    <h3>Where the size went</h3>
    <ul class="plain-list grown">
      <li v-for="part in whole ? grown : grown.slice(0, 5)" :key="part.name"><span class="mono name" :title="part.name">{{ part.name }}</span><span class="bar"><span :class="{ less: part.by_bytes < 0 }" :style="{ width: `${(100 * Math.abs(part.by_bytes)) / largest}%` }" /></span><span>{{ part.by_bytes > 0 ? '+' : '−' }}{{ size(Math.abs(part.by_bytes)) }}</span></li>
    </ul>
    <BButton v-if="grown.length > 5" size="sm" variant="link" @click="whole = !whole">{{ whole ? 'Fewer' : `All ${grown.length}` }}</BButton>
  </template>
</template>

<style scoped>
.caution td:nth-child(2), .blocker td:nth-child(2) { font-weight: 600; }
.caution .sign { color: var(--care); }
.value { overflow-wrap: anywhere; max-width: 26rem; }
h3 { margin: 0.9rem 0 0.3rem; }
.grown li { display: grid; grid-template-columns: minmax(7rem, 16rem) 1fr 6rem; gap: 0.6rem; align-items: center; font-size: 0.9rem; }
.name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.grown li > :last-child { text-align: right; }
.bar { background: var(--line); height: 0.5rem; border-radius: 0.25rem; overflow: hidden; }
.bar span { display: block; background: var(--care); height: 100%; }
.bar .less { background: var(--water-deep); }
</style>
